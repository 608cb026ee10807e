import { createHash, randomBytes } from 'node:crypto'
import { isUuid, parseReference, uuidV7 } from '@zbell/core'
import type { Scope } from '../../store/apps/apps.ts'
import type { Database } from '../../store/database.ts'
import { unknownDevices, unknownTopics, unknownUsers } from '../../store/devices/read-devices.ts'
import { createNotification } from '../../store/notifications/create-notification.ts'
import { listDeliveries } from '../../store/notifications/list-deliveries.ts'
import { findNotification, listNotifications } from '../../store/notifications/read-notifications.ts'
import { Problem } from '../problem.ts'
import type { OperationRouter } from '../serve-operation.ts'
import { deliveryView, notificationView, pageView } from '../views.ts'

/** @param onAccepted there is work for the engine */
export function serveNotifications(on: OperationRouter, database: Database, onAccepted: () => void): void {
  on.serve('sendNotification', async ({ caller, body, request, response }) => {
    const { scope, actor } = caller
    const idempotencyKey = request.get('idempotency-key')
    if (idempotencyKey !== undefined && !/^[\x20-\x7e]{1,200}$/.test(idempotencyKey)) {
      throw new Problem('invalid-request', 'Idempotency-Key wants 1 to 200 visible ASCII characters.', [
        { pointer: 'Idempotency-Key', detail: 'wants 1 to 200 visible ASCII characters' },
      ])
    }
    await checkReferences(database, scope, body.to.any)
    const createdAt = new Date()
    const id = uuidV7(createdAt.getTime(), randomBytes(10))
    const expiresAt = new Date(createdAt.getTime() + body.ttlSeconds * 1_000)
    const created = await createNotification(database, scope, {
      id,
      target: body.to,
      content: body.content,
      urgency: body.urgency,
      mode: body.mode,
      ttlSeconds: body.ttlSeconds,
      sentBy: actor,
      idempotencyHash: idempotencyKey === undefined ? null : sha256(idempotencyKey),
      requestHash: sha256(JSON.stringify(body)),
      createdAt,
      expiresAt,
    })
    if (created.is === 'repeated' && !created.sameRequest) throw new Problem('idempotency-mismatch')
    onAccepted()
    const answered = created.is === 'repeated' ? created : { id, createdAt, expiresAt }
    response.location(`/v1/apps/${scope.app.slug}/notifications/${answered.id}`)
    return {
      id: answered.id,
      state: 'expanding' as const,
      createdAt: answered.createdAt.toISOString(),
      expiresAt: answered.expiresAt.toISOString(),
    }
  })

  on.serve('listNotifications', async ({ caller, query }) => {
    const rows = await listNotifications(database, caller.scope, { ...query, limit: query.limit + 1 })
    const page = pageView(
      rows,
      query.limit,
      (row) => row.no,
      (row) => row,
    )
    return {
      items: await Promise.all(page.items.map((row) => notificationView(database, caller.scope, row))),
      next: page.next,
    }
  })

  on.serve('readNotification', async ({ caller, params }) =>
    notificationView(database, caller.scope, await needNotification(database, caller.scope, params.id)),
  )

  on.serve('listDeliveries', async ({ caller, params, query }) => {
    const notification = await needNotification(database, caller.scope, params.id)
    const rows = await listDeliveries(database, notification, { ...query, limit: query.limit + 1 })
    return pageView(rows, query.limit, (row) => row.deviceNo, deliveryView)
  })
}

export async function needNotification(database: Database, scope: Scope, id: string) {
  const found = isUuid(id) ? await findNotification(database, scope, id) : undefined
  if (!found) throw new Problem('unknown-notification')
  return found
}

/** A person or device that is named but not there is a mistake that is better said now than found in the totals. */
async function checkReferences(database: Database, scope: Scope, references: readonly string[]): Promise<void> {
  const read = references.map(parseReference).filter((one) => typeof one !== 'string')
  const noUsers = await unknownUsers(
    database,
    scope,
    read.flatMap((one) => (one.is === 'user' ? [one.user] : [])),
  )
  const noDevices = await unknownDevices(
    database,
    scope,
    read.flatMap((one) => (one.is === 'device' ? [one.device] : [])),
  )
  const noTopics = await unknownTopics(
    database,
    scope,
    read.flatMap((one) => (one.is === 'topic' ? [one.topic] : [])),
  )
  const faults = read.flatMap((one, i) => {
    if (one.is === 'user' && noUsers.has(one.user))
      return [{ pointer: `/to/any/${i}`, detail: 'is not a user of this app' }]
    if (one.is === 'device' && noDevices.has(one.device))
      return [{ pointer: `/to/any/${i}`, detail: 'is not a device of this app' }]
    if (one.is === 'topic' && noTopics.has(one.topic))
      return [{ pointer: `/to/any/${i}`, detail: 'is not a topic of this app' }]
    return []
  })
  const [first] = faults
  if (!first) return
  const named = references[Number(first.pointer.split('/').at(-1))]
  throw new Problem('invalid-request', `${named} ${first.detail} in ${scope.environment}.`, faults.slice(0, 20))
}

const sha256 = (text: string): Buffer => createHash('sha256').update(text).digest()
