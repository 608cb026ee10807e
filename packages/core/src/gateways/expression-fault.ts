import jsonata from 'jsonata'

export type ExpressionFault = { readonly position: number; readonly says: string }

/** What is wrong with a JSONata expression, and at which character; `undefined` when it can be read. */
export function expressionFault(text: string): ExpressionFault | undefined {
  try {
    jsonata(text)
    return undefined
  } catch (error) {
    const { position, message } = error as { position?: number; message?: string }
    return { position: position ?? 0, says: message ?? 'cannot be read' }
  }
}
