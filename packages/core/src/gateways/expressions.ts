import jsonata from 'jsonata'

/** What a gateway profile makes cannot be sent: the profile has to be mended, not the notification. */
export class ProfileAtFault extends Error {
  override readonly name = 'ProfileAtFault'
}

/**
 * Evaluates JSONata expressions over one input. What is asked for here need not end, or may want more memory than there is:
 * whoever takes profiles from others evaluates them elsewhere and bounds both.
 * @returns the JSON text of each result; `undefined` for one that makes nothing
 * @throws {ProfileAtFault}
 */
export type Evaluate = (
  expressions: readonly string[],
  input: Readonly<Record<string, unknown>>,
) => Promise<(string | undefined)[]>

/** Evaluates at once and without bounds, each expression read once. */
export function evaluator(): Evaluate {
  const read = new Map<string, jsonata.Expression>()
  const ready = (text: string) => {
    const known = read.get(text) ?? jsonata(text)
    read.set(text, known)
    return known
  }
  return async (expressions, input) => {
    try {
      const made: (string | undefined)[] = []
      // JSONata adds properties to the arrays that it makes; as JSON they are plain.
      for (const text of expressions) made.push(JSON.stringify(await ready(text).evaluate(input)))
      return made
    } catch (error) {
      throw new ProfileAtFault(`an expression fails: ${saysOf(error)}`)
    }
  }
}

export type ExpressionFault = { readonly position: number; readonly says: string }

/** What is wrong with a JSONata expression, and at which character; `undefined` when it can be read. */
export function expressionFault(text: string): ExpressionFault | undefined {
  try {
    jsonata(text)
    return undefined
  } catch (error) {
    return { position: (error as { position?: number }).position ?? 0, says: saysOf(error) }
  }
}

const saysOf = (error: unknown): string =>
  error instanceof RangeError
    ? 'it is nested too deeply'
    : String((error as { message?: unknown }).message ?? 'it cannot be read').slice(0, 300)
