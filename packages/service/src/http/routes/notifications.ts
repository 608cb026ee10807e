import { createHash, randomBytes } from 'node:crypto'
import type { notificationRequest } from '@zbell/contract'
import {
  isUuid,
  parseReference,
  type Reason,
  reasons,
  referencesOf,
  type Target,
  uuidV7,
  type Writing,
} from '@zbell/core'
import type { Request } from 'express'
import type { z } from 'zod'
import type { Notification } from '../../engine/notification.ts'
import type { Ahead } from '../../engine/prepare-ahead.ts'
import type { HeldWork } from '../../engine/work.ts'
import type { GatewayRoom } from '../../gateways/gateways.ts'
import { type Asked, explain } from '../../review/explain.ts'
import { type Draft, reviewDraft } from '../../review/review.ts'
import type { Scope } from '../../store/apps/apps.ts'
import type { Database } from '../../store/database.ts'
import { listDeliveries } from '../../store/deliveries/list-deliveries.ts'
import type { BlockDevice } from '../../store/devices/load-block-devices.ts'
import { isDuplicate } from '../../store/errors.ts'
import { createNotification, fewDevices, type Lifetime } from '../../store/notifications/create-notification.ts'
import { editNotification } from '../../store/notifications/edit-notification.ts'
import { holdNotification } from '../../store/notifications/hold.ts'
import {
  findNotification,
  findNotificationByName,
  listNotifications,
} from '../../store/notifications/read-notifications.ts'
import { readCourse } from '../../store/notifications/read-progress.ts'
import { withdrawNotification } from '../../store/notifications/withdraw-notification.ts'
import {
  unknownDevices,
  unknownNotifications,
  unknownTokens,
  unknownTopics,
  unknownUsers,
} from '../../store/targets/unknown-names.ts'
import type { Pace } from '../../telemetry/pace.ts'
import { invalid, Problem } from '../problem.ts'
import type { LookAhead, OperationRouter } from '../serve-operation.ts'
import { deliveryView, notificationView, pageView } from '../views.ts'
import { filledTemplate } from './templates.ts'

export type NotificationsGiven = {
  readonly database: Database
  readonly gateways: GatewayRoom
  readonly pace: Pace
  /** How long this process holds what it is to send at once; 0 where no worker runs. */
  readonly leaseMs: number
  /** There is work for the engine; a claim is this process's to do. */
  readonly onAccepted: (mine: HeldWork | undefined, ahead: Promise<Ahead | undefined> | undefined) => void
  /** A few people are about to be rung: what they get can be made ready. */
  readonly prepareSoon: (
    notification: Omit<Notification, 'no'>,
    devices: readonly BlockDevice[],
  ) => Promise<Ahead | undefined>
  /** Somebody paused, resumed or cancelled something. */
  readonly onHold: () => void
}

export function serveNotifications(on: OperationRouter, given: NotificationsGiven): void {
  const { database, leaseMs, onAccepted, onHold, prepareSoon } = given

  const send = async (
    scope: Scope,
    actor: string,
    body: Sending,
    idempotencyKey?: string,
    few?: Promise<readonly BlockDevice[] | undefined>,
  ) => {
    const draft = await draftOf(database, scope, body)
    const id = uuidV7(Date.now(), randomBytes(10))
    let ahead: Promise<Ahead | undefined> | undefined
    const created = await named(() =>
      createNotification(
        database,
        scope,
        {
          ...draft,
          id,
          name: body.name ?? null,
          paused: body.paused,
          sentBy: actor,
          idempotencyHash: idempotencyKey === undefined ? null : sha256(idempotencyKey),
          requestHash: sha256(JSON.stringify(body)),
        },
        {
          leaseMs,
          few,
          checkReferences: () => checkReferences(database, scope, body.to),
          onFound: (notification, devices) => {
            ahead = prepareSoon(notification, devices)
          },
        },
      ),
    )
    if (created.is === 'repeated' && !created.sameRequest) throw new Problem('idempotency-mismatch')
    const mine = created.is === 'created' ? created.mine : undefined
    onAccepted(mine, ahead)
    // The ring goes out before the answer does: somebody waits for it, and each costs the other a tenth of a millisecond.
    if (mine) await new Promise(setImmediate)
    return acceptedView(created.is === 'repeated' ? created.id : id, created.lifetime)
  }

  on.serve('reviewNotification', async ({ caller: { scope }, body, query, waits }) => {
    await checkReferences(database, scope, body.to)
    return reviewDraft(given, scope, await draftOf(database, scope, body), query, waits)
  })

  const foundAhead = new WeakMap<Request, Promise<readonly BlockDevice[] | undefined>>()
  const lookAhead: LookAhead<'sendNotification'> = (scope, { body, query, request }) => {
    if (query.dryRun === 'true') return
    // A failure is met again by the sending.
    const found = fewDevices(database, scope, body.to).catch(() => undefined)
    foundAhead.set(request, found)
  }

  on.serveAhead('sendNotification', lookAhead, async ({ caller, body, query, request, response, waits }) => {
    const { scope, actor } = caller
    const idempotencyKey = request.get('idempotency-key')
    if (idempotencyKey !== undefined && !/^[\x20-\x7e]{1,200}$/.test(idempotencyKey)) {
      throw new Problem('invalid-request', 'Idempotency-Key wants 1 to 200 visible ASCII characters.', [
        { pointer: 'Idempotency-Key', detail: 'wants 1 to 200 visible ASCII characters' },
      ])
    }
    if (query.dryRun === 'true') {
      await checkReferences(database, scope, body.to)
      response.json(await reviewDraft(given, scope, await draftOf(database, scope, body), {}, waits))
      return undefined as never // The answer is given.
    }
    const accepted = await send(scope, actor, body, idempotencyKey, foundAhead.get(request))
    response.location(`/v1/apps/${scope.app.slug}/notifications/${accepted.id}`)
    return accepted
  })

  on.serve('editNotification', async ({ caller: { scope }, params, body }) => {
    const row = await needNotification(database, scope, params.id)
    const content = { ...(body.content ?? row.content), title: (body.content ?? row.content).title ?? '' } as Writing
    if (row.mode === 'show' && content.title === '' && !content.perPlatform)
      throw invalid('/content/title', 'is needed: it is the first line that is shown')
    const filling = { values: body.values ?? row.filling.values, fallbacks: body.fallbacks ?? row.filling.fallbacks }
    const edit = { content, filling, urgency: body.urgency ?? row.urgency }
    if (!(await editNotification(database, row.no, edit))) throw new Problem('not-editable-now')
    return notificationView(database, scope, await needNotification(database, scope, row.id))
  })

  on.serve('holdNotification', async ({ caller: { scope }, params, body }) => {
    const notification = await needNotification(database, scope, params.id)
    if (!(await holdNotification(database, notification.no, body.hold))) throw new Problem('already-over')
    onHold()
    return notificationView(database, scope, await needNotification(database, scope, notification.id))
  })

  on.serve('withdrawNotification', async ({ caller: { scope, actor }, params }) => {
    const notification = await needNotification(database, scope, params.id)
    const id = uuidV7(Date.now(), randomBytes(10))
    const lifetime = await withdrawNotification(database, scope, notification, {
      id,
      target: { any: [`reached:${notification.id}`] },
      content: { title: '', commands: { withdraw: { id: notification.id } } },
      filling: {},
      name: null,
      template: null,
      mode: 'wake',
      urgency: 'high',
      ttlSeconds: notification.ttlSeconds,
      spreadSeconds: 0,
      paused: false,
      sentBy: actor,
      idempotencyHash: null,
      requestHash: sha256(id),
    })
    onHold()
    onAccepted(undefined, undefined)
    return acceptedView(id, lifetime)
  })

  on.serve('readCourse', async ({ caller: { scope }, params }) => {
    const { stepSeconds, steps } = await readCourse(database, await needNotification(database, scope, params.id))
    return { stepSeconds, steps: steps.map(({ at, counts }) => ({ at: at.toISOString(), counts })) }
  })

  on.serve('explainDelivery', async ({ caller: { scope }, params }) =>
    explain({ database, deliveryView }, scope, await needNotification(database, scope, params.id), whoIs(params.who)),
  )

  on.serve('listNotifications', async ({ caller, query }) => {
    const reason = needReason(query.reason)
    const rows = await listNotifications(database, caller.scope, { ...query, reason, limit: query.limit + 1 })
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
    const reason = needReason(query.reason)
    const rows = await listDeliveries(database, notification, { ...query, reason, limit: query.limit + 1 })
    return pageView(rows, query.limit, (row) => row.deviceNo, deliveryView)
  })
}

const acceptedView = (id: string, { createdAt, expiresAt }: Lifetime) => ({
  id,
  state: 'expanding' as const,
  createdAt: createdAt.toISOString(),
  expiresAt: expiresAt.toISOString(),
})

/** A person's name or a device's id, with or without saying which. */
function whoIs(text: string): Asked {
  const read = parseReference(text.includes(':') ? text : isUuid(text) ? `device:${text}` : `user:${text}`)
  if (typeof read === 'string' || (read.is !== 'user' && read.is !== 'device'))
    throw new Problem('invalid-request', `“${text.slice(0, 100)}” names nobody; write user:NAME or device:ID.`)
  return read
}

/** @throws {Problem} for one that is in no catalogue */
export function needReason(given: string | undefined): Reason | undefined {
  if (given === undefined || Object.hasOwn(reasons, given)) return given as Reason | undefined
  throw new Problem('invalid-request', `There is no reason “${given}”.`, [
    { pointer: '?reason', detail: 'is not in the catalogue of reasons' },
  ])
}

/** By its id, or by the name that it was given. */
export async function needNotification(database: Database, scope: Scope, id: string) {
  const found = isUuid(id)
    ? await findNotification(database, scope, id)
    : await findNotificationByName(database, scope, id.slice(0, 64))
  if (!found) throw new Problem('unknown-notification')
  return found
}

type Sending = Omit<z.output<typeof notificationRequest>, 'name' | 'template'> & {
  readonly name?: string | undefined
  readonly template?: string | undefined
}

/** What is to be sent: written here, or a template that is filled in. */
async function draftOf(
  database: Database,
  scope: Scope,
  body: Sending,
): Promise<Draft & { readonly template: string | null }> {
  const given = { values: body.values, fallbacks: body.fallbacks }
  const made =
    body.template === undefined
      ? { content: body.content as Writing, filling: given, template: null }
      : await filledTemplate(database, scope, body.template, given)
  return {
    ...made,
    target: body.to,
    mode: body.mode,
    urgency: body.urgency,
    ttlSeconds: body.ttlSeconds,
    spreadSeconds: body.spreadSeconds,
  }
}

async function named<T>(create: () => Promise<T>): Promise<T> {
  try {
    return await create()
  } catch (error) {
    if (isDuplicate(error, 'one_live_name')) throw new Problem('name-taken-live')
    throw error
  }
}

/** Somebody or something that is named but not there is a mistake that is better said now than found in the totals. */
async function checkReferences(database: Database, scope: Scope, target: Target): Promise<void> {
  const all = referencesOf(target).flatMap(({ part, at, text }) => {
    const read = parseReference(text)
    return typeof read === 'string' ? [] : [{ pointer: `/to/${part}/${at}`, text, read }]
  })
  const kinds = {
    user: { name: 'user', missing: unknownUsers },
    device: { name: 'device', missing: unknownDevices },
    topic: { name: 'topic', missing: unknownTopics },
    token: { name: 'token of a device', missing: unknownTokens },
    reached: { name: 'notification', missing: unknownNotifications },
  } as const
  const faults: { pointer: string; text: string; detail: string }[] = []
  for (const [is, { name, missing }] of Object.entries(kinds)) {
    const own = all.filter(({ read }) => read.is === is)
    const names = own.map(({ text }) => text.slice(text.indexOf(':') + 1))
    const gone = await missing(database, scope, names)
    own.forEach(({ pointer, text }, i) => {
      if (gone.has(names[i]!)) faults.push({ pointer, text, detail: `is not a ${name} of this app` })
    })
  }
  const [first] = faults
  if (!first) return
  throw new Problem(
    'invalid-request',
    `${first.text.slice(0, 200)} ${first.detail} in ${scope.environment}.`,
    faults.slice(0, 20).map(({ pointer, detail }) => ({ pointer, detail })),
  )
}

const sha256 = (text: string): Buffer => createHash('sha256').update(text).digest()
