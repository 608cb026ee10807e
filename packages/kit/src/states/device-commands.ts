import { type Plan, planFault } from '@zbell/core/states'

/** What a `wake` has the kit do, as far as it can be understood. */
export type DeviceCommands = {
  readonly withdraw: { readonly id?: string; readonly tag?: string } | undefined
  readonly plans: readonly Plan[]
  /** Names of plans. */
  readonly cancel: readonly string[]
}

/**
 * Reads commands that came over a gateway. What cannot be obeyed is left out: nobody is there to hear of it, and one bad plan
 * must not cost the others.
 */
export function readCommands(given: unknown): DeviceCommands {
  const { withdraw, plans, cancel } = asObject(given)
  const { id, tag } = asObject(withdraw)
  const named = { ...(typeof id === 'string' ? { id } : {}), ...(typeof tag === 'string' ? { tag } : {}) }
  return {
    withdraw: Object.keys(named).length === 0 ? undefined : named,
    plans: Array.isArray(plans)
      ? plans.filter((plan): plan is Plan => isPlan(plan) && planFault(plan) === undefined)
      : [],
    cancel: Array.isArray(cancel) ? cancel.filter((name): name is string => typeof name === 'string') : [],
  }
}

const asObject = (value: unknown): Record<string, unknown> =>
  typeof value === 'object' && value !== null ? (value as Record<string, unknown>) : {}

/** The shape of a plan; what stands in it is looked at by `planFault`. */
function isPlan(value: unknown): value is Plan {
  const { name, when, content } = asObject(value)
  const { title } = asObject(content)
  const { afterSeconds, at, local, from, repeat, place, metres, on } = asObject(when)
  const { longitude, latitude } = asObject(place)
  const known =
    typeof afterSeconds === 'number' ||
    typeof at === 'string' ||
    typeof local === 'string' ||
    (typeof from === 'string' && typeof repeat === 'string') ||
    (typeof longitude === 'number' &&
      typeof latitude === 'number' &&
      typeof metres === 'number' &&
      (on === 'enter' || on === 'leave'))
  return typeof name === 'string' && typeof title === 'string' && known
}
