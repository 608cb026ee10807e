import { Expression, type ExpressionInput } from './expression.ts'
import type { ExplainedCase, Fired, Trigger, TriggerCase, TriggerDefinition, TriggerFault } from './trigger.ts'

/** What a trigger makes of a row or an event, with the conditions that were evaluated and what its author should know. */
export type ExplainedFiring = {
  readonly fired: Fired
  readonly cases: readonly ExplainedCase[]
  readonly warnings: readonly TriggerFault[]
}

/** @param key of the row or event */
export const explainFiring = (trigger: Trigger, given: ExpressionInput, key: string): ExplainedFiring => ({
  fired: trigger.fire(given, key),
  cases: trigger.explain(given),
  warnings: triggerWarnings(trigger.definition),
})

/** Members of an event that the device which reports it can choose freely. */
const chosenByDevices = new Set(['data', 'id', 'source', 'type', 'time'])

/** References that let anyone who has the app key choose who is notified. */
export function triggerWarnings({ devices, cases, ...own }: TriggerDefinition): TriggerFault[] {
  if (devices !== true) return []
  const all: [string, TriggerCase][] = [
    ['', own],
    ...(cases ?? []).map((one, i): [string, TriggerCase] => [`/cases/${i}`, one]),
  ]
  return all.flatMap(([pointer, { to = {} }]) =>
    (['any', 'all'] as const).flatMap((part) =>
      (to[part] ?? []).flatMap((text, i) => {
        const chosen = new Expression(text).members('event').find((name) => chosenByDevices.has(name))
        const says = `uses event.${chosen}, which anyone who has the app key can make up; event.user is the user of the device that reported it`
        return chosen === undefined ? [] : [{ pointer: `${pointer}/to/${part}/${i}`, says }]
      }),
    ),
  )
}
