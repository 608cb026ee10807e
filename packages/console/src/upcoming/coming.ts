import type { Upcoming } from '@zbell/contract'

export type Item = Upcoming['items'][number]

const clock = new Intl.DateTimeFormat('en-GB', { hour: '2-digit', minute: '2-digit' })

/** The hour at which it rings: by this clock, or by each reader’s. */
export const clockOf = ({ dueAt, readersHour }: Item): string =>
  readersHour?.slice(11, 16) ?? clock.format(new Date(dueAt))

const two = (number: number): string => String(number).padStart(2, '0')

/** A day as `2026-11-27`, by this clock. */
export const dayKey = (date: Date): string => `${date.getFullYear()}-${two(date.getMonth() + 1)}-${two(date.getDate())}`

/** The day on which it rings: by this clock, or by each reader’s. */
export const dayKeyOf = ({ dueAt, readersHour }: Item): string => readersHour?.slice(0, 10) ?? dayKey(new Date(dueAt))

export const toOf = ({ schedule, notification }: Item): string =>
  schedule === null ? `/activity/${notification}` : `/upcoming/${schedule}`

export const titleOf = ({ shows }: Item): string => shows.title || 'Wakes the app'

/** How many it would ring as of now; empty where that is not known. */
export function sayReach({ reach }: Item): string {
  if (reach === null) return ''
  const devices = `${reach.devices.toLocaleString('en')} ${reach.devices === 1 ? 'device' : 'devices'}`
  return reach.estimated ? `about ${devices}` : devices
}
