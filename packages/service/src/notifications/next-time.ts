import { setImmediate as nextTurn } from 'node:timers/promises'
import { localAt } from '@zbell/core'
import { firstZone, type Past, readersEnd, type Timing, timesAfter } from '@zbell/core/calendar'
import { Problem } from '../base/index.ts'

/** The first time after an instant, or `undefined` when it is over. Whatever else there is to do is done meanwhile. */
export async function nextTime(timing: Timing, afterMs: number): Promise<Date | undefined> {
  const [first] = await nextTimes(timing, afterMs, 1)
  return first
}

/** The first times after an instant. @param beforeMs without those from then on */
export async function nextTimes(
  timing: Timing,
  afterMs: number,
  count: number,
  beforeMs = Number.POSITIVE_INFINITY,
): Promise<Date[]> {
  const found: number[] = []
  for (const times of timesAfter(timing, afterMs)) {
    found.push(...times.filter((ms) => ms < beforeMs))
    if (found.length >= count || times.some((ms) => ms >= beforeMs)) break
    await nextTurn()
  }
  return found.slice(0, count).map((ms) => new Date(ms))
}

/** @param pointer where in the request the time stands */
export const neverRings = (pointer: string): Problem =>
  new Problem('never-rings', 'None of its times lies ahead.', [
    { pointer, detail: 'has no time that is still to come' },
  ])

/** An hour by the clock of each reader, from its first on. */
export const readersOf = (local: string, past: Past, from: Date) => ({
  local,
  past,
  endsAt: new Date(Math.max(from.getTime(), readersEnd({ local, past, sentMs: from.getTime() }))),
})

const two = (number: number): string => String(number).padStart(2, '0')

/** The hour of each reader that a time of a schedule is: it is due when it comes where the day begins first. */
export function readersHourAt(dueAt: Date): string {
  const { year, month, day, hour, minute, second } = localAt(dueAt.getTime(), firstZone)
  return `${year}-${two(month)}-${two(day)}T${two(hour)}:${two(minute)}:${two(second)}`
}
