import type { Notification, Totals } from '@zbell/contract'
import { type DeliveryState, deliveryStateNames, reasons, sampleTexts } from '@zbell/core'
import type { Reader, Scope } from '../database/index.ts'
import { type Counted, countDeliveriesOf } from '../deliveries/index.ts'
import type { Notification as KeptNotification } from '../engine/index.ts'
import { waitsFor } from '../queue/index.ts'

/** Notifications as they are shown, with their totals: two queries, however many they are. */
export async function notificationViews(
  database: Reader,
  scope: Scope,
  rows: readonly KeptNotification[],
): Promise<Notification[]> {
  const counts = await countDeliveriesOf(
    database,
    rows.map(({ no }) => no),
  )
  const unfinished = rows.filter(({ state }) => state !== 'finished').map(({ no }) => no)
  const quiet = await waitsFor(database, unfinished, reasons['quiet-hours'].code)
  return rows.map((row) => viewOf(scope, row, counts.get(row.no)!, quiet.get(row.no)))
}

export async function notificationView(database: Reader, scope: Scope, row: KeptNotification): Promise<Notification> {
  const [view] = await notificationViews(database, scope, [row])
  return view!
}

function viewOf(
  scope: Scope,
  row: KeptNotification,
  counted: Counted,
  quiet: { readonly until: Date; readonly size: number } | undefined,
): Notification {
  const known = [...counted.states.values()].reduce((sum, count) => sum + count, 0)
  const states = Object.fromEntries(
    deliveryStateNames.map((state) => [state, counted.states.get(state) ?? 0]),
  ) as Record<DeliveryState, number>
  // The row was read before the count: outcomes that were stored in between can only make `known` larger.
  const expanded = Math.max(row.expanded, known)
  const totals: Totals = { expanded, ...states, queued: expanded - known }
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
      detail: reasons[reason].detail,
      remedy: reasons[reason].remedy,
    })),
    quiet: quiet ? { devices: quiet.size, until: quiet.until.toISOString() } : null,
  }
}

/** A hold shows until the end; what was cancelled stays so. */
function stateOf({ state, pause, stopped, dueAt }: KeptNotification): Notification['state'] {
  if (state === 'finished') return pause === 'cancelled' ? 'cancelled' : 'finished'
  if (state === 'scheduled' && pause === 'cancelled') return 'cancelled'
  if (pause === 'paused') return 'paused'
  // One whose hour is yet to come waits for that first.
  const ahead = state === 'scheduled' && dueAt !== null && dueAt.getTime() > Date.now()
  return stopped && !ahead ? 'stopped' : state
}
