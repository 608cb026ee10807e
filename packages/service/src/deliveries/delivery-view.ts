import type { Delivery } from '@zbell/contract'
import { reasons, timelineOf } from '@zbell/core'
import type { DeliveryRow } from './store/list-deliveries.ts'

export function deliveryView(row: DeliveryRow): Delivery {
  const { queued, ...moments } = Object.fromEntries(
    Object.entries(row.moments).map(([state, at]) => [state, at.getTime()]),
  )
  const timeline = timelineOf(queued ?? 0, moments).map(({ state, atMs, notedMs }) => ({
    state,
    at: new Date(atMs).toISOString(),
    notedAt: notedMs === undefined ? null : new Date(notedMs).toISOString(),
  }))
  return {
    device: row.device,
    user: row.user,
    platform: row.platform,
    rehearsal: row.rehearsal,
    state: row.state,
    reason: row.reason && { code: row.reason, detail: reasons[row.reason].detail, remedy: reasons[row.reason].remedy },
    attempts: row.attempts,
    gatewayReference: row.gatewayReference,
    appState: row.appState,
    became: row.became,
    action: row.action,
    cap: row.reason === 'over-cap' ? row.detail : null,
    waits: row.waits && {
      reason: row.waits.reason,
      detail: reasons[row.waits.reason].detail,
      until: row.waits.until.toISOString(),
    },
    timeline,
  }
}
