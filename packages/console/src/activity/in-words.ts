import type { Notification } from '@zbell/contract'
import { deliveryOrder } from '@zbell/contract/words'

const count = (n: number, one: string, many = `${one}s`) => `${n.toLocaleString('en')} ${n === 1 ? one : many}`

const hour = new Intl.DateTimeFormat('en-GB', { dateStyle: 'medium', timeStyle: 'short' })

/** One sentence that says where a notification stands. */
export function inWords({ state, totals, dueAt, missedAt, readersHour, quiet }: Notification): string {
  if (state === 'scheduled' && dueAt !== null) return `Waits for its hour, ${hour.format(new Date(dueAt))}.`
  if (missedAt !== null) return 'Missed: the service was not running at its hour.'
  if (state === 'stopped') return 'Waits: the app is stopped.'
  const devices = count(totals.expanded, 'device')
  if (state === 'expanding' && readersHour !== null)
    return `Rings at ${readersHour.slice(11, 16)} by each reader’s clock: ${devices} so far`
  if (state === 'expanding') return totals.expanded === 0 ? 'Looking for devices …' : `${devices} so far …`
  if (totals.expanded === 0) return 'Nobody in the target has a device that could be rung.'
  const parts = deliveryOrder
    .filter((name) => totals[name] > 0)
    .map((name) => `${totals[name].toLocaleString('en')} ${name}`)
  const waits = quiet === null ? '' : `; ${quiet.devices.toLocaleString('en')} wait for quiet hours to end`
  return `${devices}: ${parts.join(', ')}${waits}`
}
