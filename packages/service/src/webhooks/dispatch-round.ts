import {
  afterDispatch,
  type Origin,
  type Outcome,
  outcomeOf,
  type ReceiverVerdict,
  signMessage,
} from '@zbell/core/webhooks'
import { nodeCrypto } from '../base/index.ts'
import type { Database } from '../database/index.ts'
import {
  finishStatement,
  type OutboxEntry,
  outboxStatement,
  packEvents,
  putBackStatement,
  releaseStatement,
} from '../events/index.ts'
import type { EventFilter } from './event-filter.ts'
import { eventsOf, type Message, messagesOf, type Pending } from './messages.ts'
import type { Posted, Receiver } from './post.ts'
import { logStatement, type NewEntry } from './store/log.ts'
import { receiverStatement, type WebhookRow } from './store/webhooks.ts'

/** Who is told, and how it is reached. */
export type Destination = {
  readonly row: WebhookRow
  readonly receiver: Receiver
  readonly secrets: readonly string[]
  readonly filter: EventFilter
  readonly origin: Origin
}

/** What came of one round of requests. */
type Round = {
  readonly failures: number
  /** The receiver is left alone for so long. */
  readonly backoffMs: number
  /** It wants nothing more. */
  readonly off: string | undefined
  readonly outcomes: ReadonlyMap<Outcome['is'], number>
  /** It heard again after a rest. */
  readonly isBack: boolean
}

/** So much of what failed is kept with each attempt; more of it only with the last. */
const keptOfFailed = 4_000

type Attempt = {
  readonly message: Message
  readonly posted: Posted
  readonly outcome: Outcome
  readonly atMs: number
}

/**
 * Tells what was claimed, with so many requests on their way at a time, and stores what came of it in one transaction.
 * @param mayGoOn asked before each request; what was not sent is given back as it was
 */
export async function dispatchRound(
  database: Database,
  { row, receiver, secrets, filter, origin }: Destination,
  claimed: readonly OutboxEntry[],
  { inFlight, failures, mayGoOn }: { inFlight: number; failures: number; mayGoOn: () => boolean },
): Promise<Round> {
  const [first] = claimed
  const aheadMs = (first?.claimedAt.getTime() ?? Date.now()) - Date.now()
  const events = await eventsOf(database, claimed, origin, filter)
  const waiting = messagesOf(events, row.batch)
  const attempts: Attempt[] = []
  let state = { failures, backoffMs: 0 }
  let off: string | undefined
  const worker = async (): Promise<void> => {
    while (state.backoffMs === 0 && off === undefined && mayGoOn()) {
      const message = waiting.shift()
      if (!message) return
      const posted = await receiver.post({ headers: headersOf(message, secrets), body: message.body })
      // Nobody knows whether it was heard: it is told once more, and nobody is to blame.
      if (posted.isBroken) return
      const attempt = attemptOf(message, posted, Date.now() + aheadMs)
      attempts.push(attempt)
      const { outcome } = attempt
      if (outcome.is === 'unwanted') off = outcome.says
      const next = afterDispatch(state.failures, verdictOf(posted, outcome), askedOf(posted, outcome))
      state = { failures: next.failures, backoffMs: Math.max(state.backoffMs, next.backoffMs) }
    }
  }
  await Promise.all(Array.from({ length: Math.min(inFlight, waiting.length) }, worker))
  const left = leftOf(claimed, events, attempts)
  const stored = await Promise.all(
    left
      .filter(({ isUntried }) => !isUntried)
      .map(async (one) => ({
        ...one,
        failedBody: one.failed.length > 0 ? await packEvents(one.failed.map(({ text }) => text)) : undefined,
        untriedBody: one.untried.length > 0 ? await packEvents(one.untried.map(({ text }) => text)) : undefined,
      })),
  )
  const entries = await Promise.all(attempts.map(entryOf))
  const last = attempts.at(-1)?.outcome
  const fault = last === undefined || last.is === 'told' ? null : last.says
  const done = stored.filter(({ failed, untried }) => failed.length + untried.length === 0)
  const untried = left.filter(({ isUntried }) => isUntried)
  const found = { ...state, told: attempts.some(({ outcome }) => outcome.is === 'told'), fault, off }
  await database.changeAtOnce([
    ...(done.length > 0 ? [finishStatement(done.map(({ entry }) => entry.no))] : []),
    ...(untried.length > 0 ? [releaseStatement(untried.map(({ entry }) => entry))] : []),
    ...stored.flatMap((one) => restOf(row, one)),
    ...(attempts.length > 0 ? [logStatement(row.no, entries), receiverStatement(row.no, found, row.changedAt)] : []),
  ])
  const outcomes = new Map<Outcome['is'], number>()
  for (const { outcome } of attempts) outcomes.set(outcome.is, (outcomes.get(outcome.is) ?? 0) + 1)
  return { ...state, off, outcomes, isBack: failures > 0 && state.failures === 0 && attempts.length > 0 }
}

type Statement = ReturnType<typeof putBackStatement>
type Rest = Left & { readonly failedBody: Buffer | undefined; readonly untriedBody: Buffer | undefined }

/** What becomes of the rest of a piece: what failed waits for another try, what was not tried for its turn. */
function restOf(row: WebhookRow, { entry, failed, untried, failedBody, untriedBody, afterMs }: Rest): Statement[] {
  const waits = untriedBody && { body: untriedBody, size: untried.length }
  if (!failedBody) return waits ? [putBackStatement(entry, waits)] : []
  const again = { failures: entry.failures + 1, afterMs }
  const { kind, failures, createdAt } = entry
  return [
    putBackStatement(entry, { body: failedBody, size: failed.length }, again),
    ...(waits ? [outboxStatement(row.no, [{ kind, failures, createdAt, ...waits }])] : []),
  ]
}

/** Headers of a request, with the signatures of this moment. */
export const headersOf = ({ id, type, body }: Pick<Message, 'id' | 'type' | 'body'>, secrets: readonly string[]) => ({
  'content-type': type,
  'user-agent': 'zephyr-bell',
  ...signMessage({ id, timestamp: Math.floor(Date.now() / 1_000), body: Buffer.from(body) }, secrets, nodeCrypto),
})

function attemptOf(message: Message, posted: Posted, atMs: number): Attempt {
  const oldest = message.events.reduce((first, { entry }) => Math.min(first, entry.createdAt.getTime()), atMs)
  const attempts = message.events.reduce((most, { entry }) => Math.max(most, entry.failures + 1), 1)
  const outcome = outcomeOf(posted, { attempts, firstMs: oldest, nowMs: atMs, unit: Math.random() })
  return { message, posted, outcome, atMs }
}

const verdictOf = (posted: Posted, { is }: Outcome): ReceiverVerdict =>
  is === 'told' ? 'acknowledged' : posted.is === 'silent' ? 'silent' : 'refused'

/** A receiver that says when to come again is left alone until then. */
const askedOf = (posted: Posted, outcome: Outcome): number =>
  posted.is === 'answered' && posted.retryAfter !== undefined && outcome.is === 'again' ? outcome.afterMs : 0

type Left = {
  readonly entry: OutboxEntry
  readonly failed: readonly Pending[]
  readonly untried: readonly Pending[]
  /** Nothing of it was tried. */
  readonly isUntried: boolean
  readonly afterMs: number
}

/** What of each piece is still to be told. */
function leftOf(claimed: readonly OutboxEntry[], events: readonly Pending[], attempts: readonly Attempt[]): Left[] {
  const outcomes = new Map(attempts.flatMap(({ message, outcome }) => message.events.map((event) => [event, outcome])))
  const ofPiece = new Map<OutboxEntry, Pending[]>(claimed.map((entry) => [entry, []]))
  for (const event of events) ofPiece.get(event.entry)?.push(event)
  return claimed.map((entry) => {
    const own = ofPiece.get(entry) ?? []
    const failed = own.filter((event) => outcomes.get(event)?.is === 'again')
    const untried = own.filter((event) => isUntold(outcomes.get(event)))
    const pauses = failed.map((event) => pauseOf(outcomes.get(event)))
    const isUntried = own.length > 0 && untried.length === own.length
    return { entry, failed, untried, isUntried, afterMs: Math.max(0, ...pauses) }
  })
}

/** What a receiver did not want waits for whoever switches it on again. */
const isUntold = (outcome: Outcome | undefined): boolean => outcome === undefined || outcome.is === 'unwanted'
const pauseOf = (outcome: Outcome | undefined): number => (outcome?.is === 'again' ? outcome.afterMs : 0)

async function entryOf({ message, posted, outcome, atMs }: Attempt): Promise<NewEntry & { readonly atMs: number }> {
  const { events } = message
  const kinds = new Set(events.map(({ kind }) => kind))
  const body = await packEvents(events.map(({ text }) => text))
  const isLast = outcome.is === 'told' || outcome.is === 'given-up'
  return {
    message: message.id,
    kind: kinds.size === 1 ? events[0]!.kind : null,
    events: events.length,
    attempt: events.reduce((most, { entry }) => Math.max(most, entry.failures + 1), 1),
    outcome: outcome.is,
    status: posted.is === 'answered' ? posted.status : null,
    durationMs: posted.durationMs,
    says: outcome.is === 'told' ? null : outcome.says,
    answer: posted.answer,
    again: events.some(({ entry }) => entry.kind === 'replay'),
    body: isLast || body.length <= keptOfFailed ? body : null,
    atMs,
  }
}
