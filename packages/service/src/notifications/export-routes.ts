import { sayTarget } from '@zbell/contract'
import { deliveryStateNames } from '@zbell/core'
import { type Api, sendFile } from '../api/index.ts'
import type { Database, Scope } from '../database/index.ts'
import { type DeliveryPage, deliveryView, listDeliveries } from '../deliveries/index.ts'
import type { Notification } from '../engine/index.ts'
import { requireNotification } from './find.ts'
import { notificationView } from './notification-view.ts'
import { requireReason } from './routes.ts'
import { listNotifications, type NotificationPage } from './store/read-notifications.ts'

/** Rows that are read at a time. */
const notificationsAtOnce = 200
const deliveriesAtOnce = 2_000

/** What was sent and what became of it, as files. */
export function serveActivityFiles(api: Api, database: Database): void {
  api.serve('exportNotifications', async ({ caller: { scope }, query, response }) => {
    const { format, search, user, reason, channel } = query
    const filter = { search, user, channel, reason: requireReason(reason) }
    const name = `${scope.app.slug}-${scope.environment}-notifications`
    const rows = notificationLines(database, scope, filter)
    await sendFile(response, { name, format, columns: notificationColumns, rows })
    return undefined
  })

  api.serve('exportDeliveries', async ({ caller: { scope }, params, query, response }) => {
    const notification = await requireNotification(database, scope, params.id)
    const { format, state, reason, platform } = query
    const rows = deliveryLines(database, notification, { state, reason: requireReason(reason), platform })
    const name = `${scope.app.slug}-${scope.environment}-deliveries-${notification.id}`
    await sendFile(response, { name, format, columns: deliveryColumns, rows })
    return undefined
  })
}

const notificationColumns = [
  'id',
  'name',
  'createdAt',
  'finishedAt',
  'sentBy',
  'state',
  'mode',
  'urgency',
  'to',
  'template',
  'channel',
  'title',
  'body',
  'expanded',
  ...deliveryStateNames,
]

async function* notificationLines(database: Database, scope: Scope, filter: Omit<NotificationPage, 'limit' | 'after'>) {
  for (let after: string | undefined; ; ) {
    const page = await listNotifications(database, scope, { ...filter, limit: notificationsAtOnce, after })
    for (const row of page) {
      after = String(row.no)
      const one = await notificationView(database, scope, row)
      const { id, name, createdAt, finishedAt, sentBy, state, mode, urgency, template, shows, totals } = one
      const about = { id, name, createdAt, finishedAt, sentBy, state, mode, urgency, template }
      yield { ...about, to: sayTarget(one.to), title: shows.title, body: shows.body, ...totals }
    }
    if (page.length < notificationsAtOnce) return
  }
}

const moments = deliveryStateNames.map((state) => [state, `${state}At`] as const)
const deliveryColumns = [
  'device',
  'user',
  'platform',
  'rehearsal',
  'state',
  'reason',
  'attempts',
  'gatewayReference',
  'appState',
  'became',
  'action',
  ...moments.map(([, column]) => column),
]

async function* deliveryLines(
  database: Database,
  notification: Notification,
  filter: Omit<DeliveryPage, 'limit' | 'after'>,
) {
  for (let after: string | undefined; ; ) {
    const page = await listDeliveries(database, notification, { ...filter, limit: deliveriesAtOnce, after })
    for (const row of page) {
      after = String(row.deviceNo)
      const { timeline, reason, ...one } = deliveryView(row)
      const at = new Map(timeline.map((step) => [step.state, step.at]))
      const times = Object.fromEntries(moments.map(([state, column]) => [column, at.get(state) ?? null]))
      yield { ...one, reason: reason?.code ?? null, ...times }
    }
    if (page.length < deliveriesAtOnce) return
  }
}
