import type { Delivery, Device, Notification, Totals } from '@zbell/contract'
import {
  type DeliveryState,
  deliveryStateNames,
  isHandsetAddress,
  reasons,
  sampleTexts,
  timelineOf,
  unpackAllowed,
} from '@zbell/core'
import type { Notification as KeptNotification } from '../engine/notification.ts'
import { Problem } from '../problems/problem.ts'
import type { Scope } from '../store/apps/apps.ts'
import type { Database } from '../store/database.ts'
import { countDeliveries } from '../store/deliveries/counts.ts'
import type { DeliveryRow } from '../store/deliveries/list-deliveries.ts'
import type { DeviceRow } from '../store/devices/read-devices.ts'
import { isPlace } from '../store/in-order.ts'
import { waitsFor } from '../store/queue/read-queue.ts'

export async function notificationView(database: Database, scope: Scope, row: KeptNotification): Promise<Notification> {
  const counted = await countDeliveries(database, row.no)
  const known = [...counted.states.values()].reduce((sum, count) => sum + count, 0)
  const states = Object.fromEntries(
    deliveryStateNames.map((state) => [state, counted.states.get(state) ?? 0]),
  ) as Record<DeliveryState, number>
  // The row was read before the count: outcomes that were stored in between can only make `known` larger.
  const expanded = Math.max(row.expanded, known)
  const totals: Totals = { expanded, ...states, queued: expanded - known }
  const quiet = row.state === 'finished' ? null : await waitsFor(database, row.no, reasons['quiet-hours'].code)
  return {
    id: row.id,
    revision: row.version,
    app: scope.app.slug,
    environment: row.environment,
    name: row.name,
    state: stateOf(row),
    to: row.target as Notification['to'],
    content: row.content as Notification['content'],
    template: row.template,
    shows: sampleTexts(row.content, row.filling),
    values: { ...row.filling.values },
    fallbacks: { ...row.filling.fallbacks },
    channel: row.channel?.name ?? null,
    urgency: row.urgency,
    ttlSeconds: row.ttlSeconds,
    mode: row.mode,
    spreadSeconds: row.spreadSeconds,
    withdrawnAt: row.withdrawnAt?.toISOString() ?? null,
    sentBy: row.sentBy,
    createdAt: row.createdAt.toISOString(),
    expiresAt: row.expiresAt.toISOString(),
    dueAt: row.dueAt?.toISOString() ?? null,
    missedAt: row.missedAt?.toISOString() ?? null,
    readersHour: row.readerLocal,
    schedule: row.schedule,
    finishedAt: row.finishedAt?.toISOString() ?? null,
    totals,
    platforms: Object.fromEntries([...counted.platforms].map(([platform, own]) => [platform, Object.fromEntries(own)])),
    reasons: [...counted.reasons].map(([reason, count]) => ({
      reason,
      count,
      says: reasons[reason].says,
      does: reasons[reason].does,
    })),
    quiet: quiet && { devices: quiet.size, until: quiet.until.toISOString() },
  }
}

/** A hold shows until the end; what was cancelled stays so. */
function stateOf({ state, hold, stopped, dueAt }: KeptNotification): Notification['state'] {
  if (state === 'finished') return hold === 'cancelled' ? 'cancelled' : 'finished'
  if (state === 'scheduled' && hold === 'cancelled') return 'cancelled'
  if (hold === 'paused') return 'paused'
  // One whose hour is yet to come waits for that first.
  const ahead = state === 'scheduled' && dueAt !== null && dueAt.getTime() > Date.now()
  return stopped && !ahead ? 'stopped' : state
}

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
    reason: row.reason && { code: row.reason, says: reasons[row.reason].says, does: reasons[row.reason].does },
    attempts: row.attempts,
    gatewayReference: row.gatewayReference,
    appState: row.appState,
    became: row.became,
    action: row.action,
    cap: row.reason === 'over-cap' ? row.detail : null,
    waits: row.waits && {
      reason: row.waits.reason,
      says: reasons[row.waits.reason].says,
      until: row.waits.until.toISOString(),
    },
    timeline,
  }
}

export const deviceView = (row: DeviceRow): Device => ({
  id: row.id,
  platform: row.platform,
  environment: row.environment,
  rehearsal: isHandsetAddress(row.token),
  permission: row.permission,
  muted: row.muted,
  allows: row.allows === null ? null : unpackAllowed(row.allows),
  user: row.user,
  locale: row.locale,
  timeZone: row.timeZone,
  appVersion: row.appVersion,
  systemVersion: row.systemVersion,
  model: row.model,
  registeredAt: row.registeredAt.toISOString(),
  seenAt: row.seenAt.toISOString(),
  changedAt: row.changedAt.toISOString(),
  receiptAt: row.receiptAt?.toISOString() ?? null,
  retiredAt: row.retiredAt?.toISOString() ?? null,
  retiredReason: row.retiredReason,
})

/** The place of a name in a list that is in the order of names. */
export const placeOfName = (name: string): string => Buffer.from(name).toString('base64url')
export function nameAtPlace(place: string | undefined): string | undefined {
  if (place === undefined) return undefined
  const name = Buffer.from(place, 'base64url').toString()
  if (!/^[\x20-\x7e]*$/.test(name) || placeOfName(name) !== place) throw notAPlace()
  return name
}

/** A place in a list that can be put in any order. */
export function sortedPlace(place: string | undefined): string | undefined {
  if (place !== undefined && !isPlace(place)) throw notAPlace()
  return place
}

/** @throws {Problem} `invalid-request` */
const notAPlace = (): Problem =>
  new Problem('invalid-request', 'This is not a place in this list; give back what `next` answered.', [
    { pointer: '?after', detail: 'is not a place in this list' },
  ])

/** The number at a place of a list that is in the order of numbers. */
export function numberAtPlace(place: string | undefined): number | undefined {
  if (place === undefined) return undefined
  if (!/^\d{1,15}$/.test(place)) throw notAPlace()
  return Number(place)
}

/** One page of rows: one more than asked for is read, to know whether another page follows. */
export function pageView<R, V>(
  rows: readonly R[],
  limit: number,
  placeOf: (row: R) => number | string,
  view: (row: R) => V,
) {
  const items = rows.slice(0, limit)
  const last = items.at(-1)
  return { items: items.map(view), next: rows.length > limit && last !== undefined ? String(placeOf(last)) : null }
}
