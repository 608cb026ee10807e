import { graceSecondsDefault, type Operations } from '@zbell/contract'
import { defaultTtlSeconds, isUuid, parseReference, type Reason, reasons } from '@zbell/core'
import type { Request } from 'express'
import type { z } from 'zod'
import { type Api, idempotencyKeyOf, type LookAhead, pageView } from '../api/index.ts'
import { Problem } from '../base/index.ts'
import type { Database, Scope } from '../database/index.ts'
import { deliveryView, listDeliveries } from '../deliveries/index.ts'
import type { BlockDevice } from '../engine/index.ts'
import type { RuleEvaluator } from '../segments/index.ts'
import { explain, type Recipient } from './explain.ts'
import { requireNotification } from './find.ts'
import type { Accepted, Intake } from './intake.ts'
import { notificationView, notificationViews } from './notification-view.ts'
import { listNotifications } from './store/read-notifications.ts'
import { readProgress } from './store/read-progress.ts'

type NewNotification = z.output<Operations['sendNotification']['body']>
type Repeated = Omit<NewNotification, 'when' | 'graceSeconds' | 'name'>
/** What is sent again and again is a schedule. */
type Schedules = {
  save(
    scope: Scope,
    name: string,
    given: Pick<NewNotification, 'paused'> & {
      readonly when: NonNullable<NewNotification['when']>
      readonly notification: Repeated
      readonly graceSeconds: number
    },
    actor: string,
  ): Promise<Scheduled>
}
type Scheduled = {
  readonly nextId: string
  readonly nextAt: Date | null
  readonly changedAt: Date
  readonly notification: { readonly ttlSeconds?: number | undefined }
}

export function serveNotifications(
  api: Api,
  {
    database,
    ruleEvaluator,
    intake,
    schedules,
  }: {
    readonly database: Database
    readonly ruleEvaluator: RuleEvaluator
    readonly intake: Intake
    readonly schedules: Schedules
  },
): void {
  const foundAhead = new WeakMap<Request, Promise<readonly BlockDevice[] | undefined>>()
  const lookAhead: LookAhead<'sendNotification'> = (scope, { body, query, request }) => {
    if (query.dryRun !== 'true' && body.when === undefined) foundAhead.set(request, intake.lookAhead(scope, body.to))
  }

  api.serveAhead('sendNotification', lookAhead, async ({ caller, body, query, request, response, waits }) => {
    const { scope, actor } = caller
    const idempotencyKey = idempotencyKeyOf(request)
    if (query.dryRun === 'true') {
      response.json(await intake.review(scope, body, {}, waits))
      return undefined as never // The answer is given.
    }
    if (body.when?.repeat !== undefined && body.name !== undefined) {
      const { when, name, graceSeconds = graceSecondsDefault, paused, ...notification } = body
      const kept = await schedules.save(
        scope,
        name,
        { when, notification: { ...notification, paused: false }, graceSeconds, paused },
        actor,
      )
      return scheduledView(kept)
    }
    const accepted = await intake.send(scope, body, { actor, idempotencyKey }, foundAhead.get(request))
    response.location(`/v1/apps/${scope.app.slug}/notifications/${accepted.id}`)
    return acceptedView(accepted)
  })

  api.serve('reviewNotification', async ({ caller: { scope }, body, query, waits }) =>
    intake.review(scope, body, query, waits),
  )

  api.serve('editNotification', async ({ caller: { scope }, params, body }) =>
    notificationView(database, scope, await intake.edit(scope, params.id, body)),
  )

  const held = {
    paused: intake.pause,
    none: intake.resume,
    cancelled: intake.cancel,
  } as const
  api.serve('holdNotification', async ({ caller: { scope }, params, body }) =>
    notificationView(database, scope, await held[body.hold].call(intake, scope, params.id)),
  )

  api.serve('withdrawNotification', async ({ caller: { scope, actor }, params }) =>
    acceptedView(await intake.withdraw(scope, params.id, { actor })),
  )

  api.serve('readProgress', async ({ caller: { scope }, params }) => {
    const { stepSeconds, steps } = await readProgress(database, await requireNotification(database, scope, params.id))
    return { stepSeconds, steps: steps.map(({ at, counts }) => ({ at: at.toISOString(), counts })) }
  })

  api.serve('explainDelivery', async ({ caller: { scope, isKey }, params }) =>
    explain(
      { database, ruleEvaluator, deliveryView, seesBoth: !isKey },
      scope,
      await requireNotification(database, scope, params.id),
      whoIs(params.who),
    ),
  )

  api.serve('listNotifications', async ({ caller, query }) => {
    const reason = requireReason(query.reason)
    const rows = await listNotifications(database, caller.scope, { ...query, reason, limit: query.limit + 1 })
    const page = pageView(
      rows,
      query.limit,
      (row) => row.no,
      (row) => row,
    )
    return {
      items: await notificationViews(database, caller.scope, page.items),
      next: page.next,
    }
  })

  api.serve('readNotification', async ({ caller, params }) =>
    notificationView(database, caller.scope, await requireNotification(database, caller.scope, params.id)),
  )

  api.serve('listDeliveries', async ({ caller, params, query }) => {
    const notification = await requireNotification(database, caller.scope, params.id)
    const reason = requireReason(query.reason)
    const rows = await listDeliveries(database, notification, { ...query, reason, limit: query.limit + 1 })
    return pageView(rows, query.limit, (row) => row.deviceNo, deliveryView)
  })
}

const acceptedView = ({ id, createdAt, expiresAt, dueAt }: Accepted) => ({
  id,
  state: dueAt ? ('scheduled' as const) : ('expanding' as const),
  dueAt: dueAt?.toISOString() ?? null,
  createdAt: createdAt.toISOString(),
  expiresAt: expiresAt.toISOString(),
})

/** A schedule that was made by sending; the first of its runs has this id. */
function scheduledView({ nextId, nextAt, changedAt, notification }: Scheduled) {
  const dueAt = nextAt ?? changedAt
  return {
    id: nextId,
    state: 'scheduled' as const,
    createdAt: changedAt.toISOString(),
    dueAt: dueAt.toISOString(),
    expiresAt: new Date(dueAt.getTime() + (notification.ttlSeconds ?? defaultTtlSeconds) * 1_000).toISOString(),
  }
}

/** A person's name or a device's id, with or without saying which. */
function whoIs(text: string): Recipient {
  const read = parseReference(text.includes(':') ? text : isUuid(text) ? `device:${text}` : `user:${text}`)
  if (typeof read === 'string' || (read.is !== 'user' && read.is !== 'device'))
    throw new Problem('invalid-request', `“${text.slice(0, 100)}” names nobody; write user:NAME or device:ID.`)
  return read
}

/** @throws {Problem} for one that is in no catalogue */
export function requireReason(given: string | undefined): Reason | undefined {
  if (given === undefined || Object.hasOwn(reasons, given)) return given as Reason | undefined
  throw new Problem('invalid-request', `There is no reason “${given}”.`, [
    { pointer: '?reason', detail: 'is not in the catalogue of reasons' },
  ])
}
