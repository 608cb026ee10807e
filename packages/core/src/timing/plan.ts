import type { Place } from '../people/attributes.ts'
import { instantOf, type LocalTime, localAt, localFields } from './local-time.ts'
import { nextOccurrence, parseRecurrence } from './recurrence.ts'

/** By whose clock a local time is meant: an IANA zone, or the device’s own (`reader`), also when left out. */
type Clock = { readonly zone?: string | undefined }

/** When a plan rings, on the device itself and without a network: in the words of a notification’s `when`, and at places. */
export type PlanTime =
  | { readonly afterSeconds: number }
  /** RFC 3339. */
  | { readonly at: string }
  | ({ readonly local: LocalTime } & Clock)
  /** At the local time of `from`, on the days of an RFC 5545 recurrence. */
  | ({ readonly from: LocalTime; readonly repeat: string } & Clock)
  | { readonly place: Place; readonly metres: number; readonly on: 'enter' | 'leave' }

export type PlanContent = {
  readonly title: string
  readonly body?: string
  readonly navigate?: string
  readonly tag?: string
  readonly data?: unknown
}

export type Plan = { readonly name: string; readonly when: PlanTime; readonly content: PlanContent }

/** A plan as a device keeps it. */
export type KeptPlan = Plan & {
  readonly setAtMs: number
  /** When it rings next; none for a place, and when it is over. */
  readonly ringsAtMs: number | undefined
  /** For a place: whether the device was inside when it last looked. */
  readonly inside?: boolean
}

/** What is wrong with a plan, in a sentence; `undefined` for one that can be kept. */
export function planFault({ name, when, content }: Plan): string | undefined {
  if (!/^[\w.-]{1,64}$/.test(name)) return 'a plan’s name has 1 to 64 letters, digits, dots, hyphens and underscores'
  if (content.title === '') return 'a plan wants a title'
  if ('afterSeconds' in when)
    return when.afterSeconds >= 0 && Number.isFinite(when.afterSeconds) ? undefined : 'afterSeconds wants 0 or more'
  if ('at' in when)
    return instant.test(when.at) && !Number.isNaN(Date.parse(when.at))
      ? undefined
      : `${when.at} is not an instant such as 2026-11-23T06:30:00Z; a local time is called local`
  if (('local' in when || 'from' in when) && !isClock(when.zone))
    return `${when.zone} is neither an IANA time zone nor reader`
  if ('local' in when)
    return localFields(when.local) ? undefined : `${when.local} is not a local time such as 2026-11-23T07:30`
  if ('repeat' in when) {
    if (!localFields(when.from)) return `${when.from} is not a local time such as 2026-11-23T07:30`
    const rule = parseRecurrence(when.repeat)
    return typeof rule === 'string' ? rule : undefined
  }
  return when.metres >= 50 && when.metres <= 100_000 ? undefined : 'metres wants 50 to 100,000'
}

const instant = /^\d{4}-\d{2}-\d{2}T\d{2}:\d{2}(?::\d{2}(?:\.\d{1,3})?)?(?:Z|[+-]\d{2}:\d{2})$/

function isClock(zone: string | undefined): boolean {
  if (zone === undefined || zone === 'reader') return true
  try {
    return localAt(0, zone) !== undefined
  } catch (error) {
    if (error instanceof RangeError) return false
    throw error
  }
}

/** Keeps a plan from now on. @throws {RangeError} for one that {@link planFault} names */
export function keepPlan(plan: Plan, nowMs: number, zone: string): KeptPlan {
  const fault = planFault(plan)
  if (fault !== undefined) throw new RangeError(fault)
  const { name, when, content } = plan
  return { name, when, content, setAtMs: nowMs, ringsAtMs: nextRing(plan, nowMs, nowMs, zone) }
}

/** When it rings next after an instant. @param setAtMs when it was set */
export function nextRing({ when }: Plan, setAtMs: number, afterMs: number, zone: string): number | undefined {
  if ('place' in when) return undefined
  if ('repeat' in when) {
    const rule = parseRecurrence(when.repeat)
    return typeof rule === 'string' ? undefined : nextOccurrence(when.from, rule, zoneOf(when, zone), afterMs)
  }
  const ms =
    'local' in when
      ? instantOf(when.local, zoneOf(when, zone))
      : 'at' in when
        ? Date.parse(when.at)
        : setAtMs + when.afterSeconds * 1_000
  // What was to ring while the device was off rings once, when it is on again.
  return ms > afterMs || afterMs === setAtMs ? ms : undefined
}

/** @param own the device’s */
const zoneOf = ({ zone = 'reader' }: Clock, own: string): string => (zone === 'reader' ? own : zone)

/** A device that was off for longer rings nothing of before. */
const lateMs = 3_600_000

/**
 * Looks which plans ring now.
 * @param at where the device is; `undefined` when it does not know
 * @returns the plans that ring, and all as they are to be kept from now on: those that are over have gone
 */
export function duePlans(
  plans: readonly KeptPlan[],
  nowMs: number,
  zone: string,
  at: Place | undefined,
): { readonly rings: readonly KeptPlan[]; readonly kept: readonly KeptPlan[] } {
  const rings: KeptPlan[] = []
  const kept: KeptPlan[] = []
  for (const plan of plans) {
    const { when } = plan
    if ('place' in when) {
      const inside = at ? metresBetween(at, when.place) <= when.metres : plan.inside
      // The first look only tells where the device is; it neither entered nor left.
      if (plan.inside !== undefined && inside !== plan.inside && inside === (when.on === 'enter')) rings.push(plan)
      kept.push(inside === undefined ? plan : { ...plan, inside })
      continue
    }
    if (plan.ringsAtMs === undefined || plan.ringsAtMs > nowMs) {
      if (plan.ringsAtMs !== undefined) kept.push(plan)
      continue
    }
    if (nowMs - plan.ringsAtMs <= lateMs) rings.push(plan)
    const ringsAtMs = 'repeat' in when ? nextRing(plan, plan.setAtMs, nowMs, zone) : undefined
    if (ringsAtMs !== undefined) kept.push({ ...plan, ringsAtMs })
  }
  return { rings, kept }
}

const earthMetres = 6_371_000
const radians = (degrees: number): number => (degrees * Math.PI) / 180

/** Along a great circle (haversine). */
export function metresBetween(a: Place, b: Place): number {
  const [dLat, dLong] = [radians(b.latitude - a.latitude), radians(b.longitude - a.longitude)]
  const h =
    Math.sin(dLat / 2) ** 2 + Math.cos(radians(a.latitude)) * Math.cos(radians(b.latitude)) * Math.sin(dLong / 2) ** 2
  return 2 * earthMetres * Math.asin(Math.min(1, Math.sqrt(h)))
}
