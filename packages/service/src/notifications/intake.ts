import { createHash } from 'node:crypto'
import { graceSecondsDefault } from '@zbell/contract'
import type { Writing } from '@zbell/core'
import { timingOf, type When } from '@zbell/core/calendar'
import { invalid, type Pace, Problem } from '../base/index.ts'
import { type Database, databaseTime, isDuplicate, type Scope } from '../database/index.ts'
import type { Ahead, BlockDevice, Notification, Pause, Signals } from '../engine/index.ts'
import type { GatewayRegistry } from '../gateways/index.ts'
import { checkReferences } from '../targets/index.ts'
import { buildNotification, fewDevices } from './build-notification.ts'
import { channelIn, draftOf, type NotificationRequest } from './draft.ts'
import { requireNotification } from './find.ts'
import { neverRings, nextTime, readersHourAt, readersOf } from './next-time.ts'
import { type ReviewReader, reviewDraft } from './review.ts'
import type { Moment } from './review-policy.ts'
import { editNotification } from './store/edit-notification.ts'
import { pauseNotification } from './store/pause.ts'
import { type Created, earlierAnswer, type Lifetime, storeNotification } from './store/store-notification.ts'
import { withdrawNotification } from './store/withdraw-notification.ts'

/** What intake needs of the rest of the process. */
export type IntakeParts = {
  readonly database: Database
  readonly gateways: GatewayRegistry
  readonly pace: Pace
  /** For so many days deliveries are kept; 0 where they stay. */
  readonly keptDays: number
  /** How long this process holds what it is to send at once; 0 where no worker runs. */
  readonly leaseMs: number
  readonly signals: Signals
  /** A few people are about to be rung: what they get can be made ready. */
  readonly prepareSoon: (
    notification: Omit<Notification, 'no'>,
    devices: readonly BlockDevice[],
  ) => Promise<Ahead | undefined>
}

/** Who asks, and what makes it the same request when it comes again. */
export type Asker = { readonly actor: string; readonly idempotencyKey?: string | undefined }

export type Accepted = Lifetime & { readonly id: string }

export type Edit = {
  readonly content?: object | undefined
  readonly values?: Notification['filling']['values']
  readonly fallbacks?: Notification['filling']['fallbacks']
  readonly urgency?: Notification['urgency'] | undefined
}

/**
 * The use cases of a notification, for whoever wants something rung or stopped: a route, and whatever else rings without a
 * person. What cannot be done is refused with a {@link Problem}.
 */
export class Intake {
  readonly #parts: IntakeParts

  constructor(parts: IntakeParts) {
    this.#parts = parts
  }

  /**
   * Begins to look for the devices of a few people, for a `send` that is about to follow. A failure is met again by the sending.
   * @returns `undefined` for a target that is expanded
   */
  async lookAhead(scope: Scope, target: NotificationRequest['to']): Promise<readonly BlockDevice[] | undefined> {
    return fewDevices(this.#parts.database, scope, target).catch(() => undefined)
  }

  /** Says what would happen, and stores nothing. @param signal nobody waits for the answer any more */
  async review(scope: Scope, request: NotificationRequest, reader: ReviewReader, signal?: AbortSignal) {
    const { database } = this.#parts
    await checkReferences(database, scope, request.to)
    const draft = await draftOf(this.#parts, scope, request)
    return reviewDraft(this.#parts, scope, draft, reader, await this.#momentOf(request.when), signal)
  }

  /**
   * Stores a notification with its first work: what is answered is never lost.
   * @param few what {@link lookAhead} found
   * @throws {Problem} `name-taken-live`, `idempotency-mismatch`, or for what the request names
   */
  async send(
    scope: Scope,
    request: NotificationRequest,
    { actor, idempotencyKey }: Asker,
    few?: Promise<readonly BlockDevice[] | undefined>,
  ): Promise<Accepted> {
    const { database, leaseMs, signals, prepareSoon } = this.#parts
    const hashes = {
      idempotencyHash: idempotencyKey === undefined ? null : sha256(idempotencyKey),
      requestHash: sha256(JSON.stringify(request)),
    }
    // Its hour may have come since it was sent first.
    const earlier = request.when === undefined ? undefined : await earlierAnswer(database, scope, hashes)
    if (earlier) return answerOf(earlier, earlier.id)
    const due = request.when === undefined ? undefined : await this.#dueOf(request.when, request.graceSeconds)
    let ahead: Promise<Ahead | undefined> | undefined
    const order = { request, name: request.name, sentBy: actor, due, references: 'all', ...hashes } as const
    const built = await buildNotification(this.#parts, scope, order, {
      leaseMs,
      few,
      onFound: (notification, devices) => {
        ahead = prepareSoon(notification, devices)
      },
    })
    const created = await refusedWhenTaken(() => storeNotification(database, scope, built))
    const accepted = answerOf(created, built.given.id)
    const leased = created.is === 'created' ? created.leased : undefined
    signals.emit('work', leased && { work: leased, ahead })
    // The ring goes out before the answer does: somebody waits for it, and each costs the other a tenth of a millisecond.
    if (leased) await new Promise(setImmediate)
    return accepted
  }

  /** When it would ring; a recurrence, when it does so first. */
  async #momentOf(when: When | undefined): Promise<Moment> {
    const nowMs = (await databaseTime(this.#parts.database)).getTime()
    if (when === undefined) return { atMs: nowMs }
    const at = await nextTime(timingOf(when, nowMs), nowMs - 1)
    if (at === undefined) throw neverRings('/when')
    if (when.zone === 'reader') return { local: when.local ?? readersHourAt(at) }
    return { atMs: at.getTime() }
  }

  /** @throws {Problem} `never-rings` for an hour that is over */
  async #dueOf(when: When, graceSeconds = graceSecondsDefault) {
    const nowMs = (await databaseTime(this.#parts.database)).getTime()
    const at = await nextTime(timingOf(when, nowMs), nowMs - 1)
    if (at === undefined) throw neverRings('/when')
    const { local, zone, past = 'skip' } = when
    return { at, graceSeconds, readers: zone === 'reader' && local ? readersOf(local, past, at) : undefined }
  }

  /** Changes a paused notification of which nothing has gone. @throws {Problem} `not-editable-now` */
  async edit(scope: Scope, id: string, { content, values, fallbacks, urgency }: Edit): Promise<Notification> {
    const { database } = this.#parts
    const row = await requireNotification(database, scope, id)
    const written = { ...(content ?? row.content) } as Partial<Writing>
    const next = { ...written, title: written.title ?? '' } as Writing
    if (row.mode === 'show' && next.title === '' && !next.perPlatform)
      throw invalid('/content/title', 'is needed: it is the first line that is shown')
    const filling = { values: values ?? row.filling.values, fallbacks: fallbacks ?? row.filling.fallbacks }
    const channel = await channelIn(database, scope, next)
    const changed = { content: next, filling, urgency: urgency ?? row.urgency, channelNo: channel?.no ?? null }
    if (!(await editNotification(database, row.no, changed))) throw new Problem('not-editable-now')
    return requireNotification(database, scope, row.id)
  }

  /** Stops a notification for now; its queued work keeps its due times. @throws {Problem} `already-over` */
  pause(scope: Scope, id: string): Promise<Notification> {
    return this.#pause(scope, id, 'paused')
  }

  /** Lets a paused notification go on. @throws {Problem} `already-over` */
  resume(scope: Scope, id: string): Promise<Notification> {
    return this.#pause(scope, id, 'none')
  }

  /** Ends a notification for good: what has not gone yet never goes. @throws {Problem} `already-over` */
  cancel(scope: Scope, id: string): Promise<Notification> {
    return this.#pause(scope, id, 'cancelled')
  }

  async #pause(scope: Scope, id: string, pause: Pause): Promise<Notification> {
    const { database, signals } = this.#parts
    const notification = await requireNotification(database, scope, id)
    if (!(await pauseNotification(database, notification.no, pause))) throw new Problem('already-over')
    signals.emit('pause')
    return requireNotification(database, scope, notification.id)
  }

  /** Takes a notification back: what waits ends, and devices that have it are woken to remove it. @returns that wake */
  async withdraw(scope: Scope, id: string, { actor }: Asker): Promise<Accepted> {
    const { database, signals } = this.#parts
    const notification = await requireNotification(database, scope, id)
    const wake = await buildNotification(this.#parts, scope, {
      request: {
        to: { any: [`reached:${notification.id}`] },
        content: { title: '', commands: { withdraw: { id: notification.id } } },
        mode: 'wake',
        urgency: 'high',
        ttlSeconds: notification.ttlSeconds,
        spreadSeconds: 0,
        paused: false,
      },
      sentBy: actor,
      references: 'all',
    })
    const lifetime = await withdrawNotification(database, scope, notification, wake)
    signals.emit('pause')
    signals.emit('work')
    return { id: wake.given.id, ...lifetime }
  }
}

/** @param id of one that was made now @throws {Problem} `idempotency-mismatch` */
function answerOf(created: Created, id: string): Accepted {
  if (created.is === 'created') return { id, ...created.lifetime }
  if (!created.sameRequest) throw new Problem('idempotency-mismatch')
  return { id: created.id, ...created.lifetime }
}

async function refusedWhenTaken<T>(create: () => Promise<T>): Promise<T> {
  try {
    return await create()
  } catch (error) {
    if (isDuplicate(error, 'one_live_name')) throw new Problem('name-taken-live')
    throw error
  }
}

const sha256 = (text: string): Buffer => createHash('sha256').update(text).digest()
