import type { NewTrigger, Trigger } from '@zbell/contract'

/** A trigger as it was saved. */
export const definitionOf = ({ definition }: Pick<Trigger, 'definition'>): NewTrigger => definition as NewTrigger

/** What it asks and says, case by case. */
export type ToldCase = { readonly when: string; readonly to: string; readonly says: string }

export function casesOf(definition: NewTrigger): ToldCase[] {
  const { cases, when, to, template, content } = definition
  return (cases ?? [{ when }]).map((own) => {
    const target = own.to ?? to ?? {}
    // The nearer of the two is what it says.
    const words = own.content ?? (own.template === undefined ? content : undefined)
    return {
      when: own.when ?? 'always',
      to: (['any', 'all', 'none'] as const)
        .flatMap((part) => (target[part] ? [`${part} of ${target[part].join(', ')}`] : []))
        .join('; '),
      says: words?.title ?? `the template ${own.template ?? template ?? ''}`,
    }
  })
}
