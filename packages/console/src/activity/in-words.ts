import type { Notification } from '@zbell/contract'
import { deliveryOrder } from '@zbell/contract/words'

const count = (n: number, one: string, many = `${one}s`) => `${n.toLocaleString('en')} ${n === 1 ? one : many}`

/** One sentence that says where a notification stands. */
export function inWords({ state, totals }: Notification): string {
  const devices = count(totals.expanded, 'device')
  if (state === 'expanding') return totals.expanded === 0 ? 'Looking for devices …' : `${devices} so far …`
  if (totals.expanded === 0) return 'Nobody in the target has a device that could be rung.'
  const parts = deliveryOrder
    .filter((name) => totals[name] > 0)
    .map((name) => `${totals[name].toLocaleString('en')} ${name}`)
  return `${devices}: ${parts.join(', ')}`
}
