import { setTimeout as wait } from 'node:timers/promises'
import { LRUCache } from 'lru-cache'
import type { Logger } from 'pino'
import { Poller } from '../base/index.ts'
import { type Database, DatabaseUnavailable, Lease } from '../database/index.ts'
import type { Signals } from '../engine/index.ts'
import { EvaluationFailed, type EvaluatorPool } from '../evaluation/index.ts'
import { claimEntries, dueWebhooks, extendEntries, makeEntriesDue } from '../events/index.ts'
import type { AddressGuard } from '../net/index.ts'
import { SealBroken, type Vault } from '../vault/index.ts'
import { type Destination, dispatchRound } from './dispatch-round.ts'
import { eventFilter } from './event-filter.ts'
import { Receiver } from './post.ts'
import { openWebhook, signingSecrets } from './secrets.ts'
import { findWebhooks, receiverStatement, type WebhookRow } from './store/webhooks.ts'

export type DispatcherParts = {
  readonly database: Database
  readonly vault: Vault
  readonly guard: AddressGuard
  /** Certificates to trust beside the system’s and a webhook’s own. */
  readonly trusted: readonly string[]
  /** The service’s address, as others know it. */
  readonly service: () => string
  readonly evaluators: EvaluatorPool
  readonly log: Logger
  readonly pollMs: number
  readonly signals: Signals
  /** How long a receiver has to answer. */
  readonly withinMs?: number
  /** How long claimed events stay claimed without a sign of life. */
  readonly leaseMs: number
  /** Whether this process is sending: that goes first. */
  isSending?(): boolean
  /** Called with how requests ended. */
  told?(outcome: string, requests: number): void
}

/** A round launches nothing more after so long, whatever waits. */
const roundMs = 5_000
/** So many events of a receiver are at hand at a time: of those that go alone, and in lists; and of so many pieces. */
const roundEvents = { single: 500, batch: 2_000 } as const
const roundPieces = 200
/** So many receivers are told at a time, in all and of one app; and of those that are slow or do not hear. */
const maxRounds = { inAll: 64, ofApp: 16, failing: 24, failingOfApp: 8 }
/** Whoever takes longer for a request counts as slow at its next round. */
const slowMs = 1_000
/** The most requests on their way to one receiver: of single events, and of batches. */
const maxInFlight = { single: 16, batch: 4 } as const
/** After so many events a receiver rests while something is sent: so many times as long as they took, and no longer than this. */
const manyEvents = 1_000
const restShare = 3
const maxBackoffMs = 1_000
/** What cannot be told because of an internal error rests for so long. */
const faultBackoffMs = 60_000
/** What is on its way when the process is to stop is waited for so long. */
const landMs = 2_000
/** Connections to so many receivers are kept. */
const receiversKept = 500

const modeOf = ({ batch }: Pick<WebhookRow, 'batch'>): 'single' | 'batch' => (batch === 1 ? 'single' : 'batch')

type ActiveRound = {
  readonly appNo: number
  readonly isFailing: boolean
  readonly startedMs: number
  readonly done: Promise<void>
}
const ofApp = (all: readonly ActiveRound[], appNo: number): number => all.filter((one) => one.appNo === appNo).length

type CachedReceiver = { readonly receiver: Receiver; readonly key: string }

/**
 * Tells the app’s own servers what happened. Each receiver has rounds, a pace and a circuit of its own; any number of processes may
 * tell, and each event is claimed by one of them.
 */
export class WebhookDispatcher {
  readonly #parts: DispatcherParts
  readonly #rounds = new Map<number, ActiveRound>()
  readonly #held = new Set<number>()
  readonly #receivers = new LRUCache<number, CachedReceiver>({
    max: receiversKept,
    dispose: ({ receiver }) => void receiver.close(),
  })
  /** Requests on their way that a receiver has taken well. */
  readonly #paces = new LRUCache<number, number>({ max: 10_000 })
  readonly #slow = new LRUCache<number, true>({ max: 10_000 })
  readonly #poller: Poller

  constructor(parts: DispatcherParts) {
    this.#parts = parts
    const { pollMs, log, signals } = parts
    this.#poller = new Poller({ name: 'the outbox', everyMs: pollMs, log, poll: () => this.#beginDue() })
    signals.on('outbox', () => this.#poller.wake())
  }

  start(): void {
    this.#poller.start(0)
  }

  /** Sends nothing more; what is on its way may be answered for a moment, and is written down. */
  async close(): Promise<void> {
    await this.#poller.close()
    const enough = setTimeout(() => this.#receivers.clear(), landMs)
    await Promise.all([...this.#rounds.values()].map(({ done }) => done))
    clearTimeout(enough)
    this.#receivers.clear()
  }

  async #beginDue(): Promise<void> {
    const { database } = this.#parts
    const room = maxRounds.inAll - this.#rounds.size
    if (room <= 0) return
    const due = await dueWebhooks(database, { besides: [...this.#rounds.keys()], most: room * 4 })
    const rows = await findWebhooks(
      database,
      due.map(({ no }) => no),
    )
    // In their order: it is fair to apps.
    const found = new Map(rows.map((row) => [row.no, row]))
    for (const { no } of due) {
      const row = found.get(no)
      if (row) this.#begin(row)
    }
  }

  #begin(row: WebhookRow): void {
    const isFailing = row.failures > 0 || this.#slow.has(row.no)
    const all = [...this.#rounds.values()]
    if (all.length >= maxRounds.inAll) return
    // Whoever takes long is known by that before its round is over, and stands in nobody’s way.
    const now = performance.now()
    const [slow, quick] = [true, false].map((is) =>
      all.filter((one) => (one.isFailing || now - one.startedMs > slowMs) === is),
    ) as [ActiveRound[], ActiveRound[]]
    const isFull = isFailing
      ? slow.length >= maxRounds.failing || ofApp(slow, row.appNo) >= maxRounds.failingOfApp
      : ofApp(quick, row.appNo) >= maxRounds.ofApp
    if (isFull) return
    const done = this.#round(row)
      .catch((error: unknown) => {
        if (error instanceof DatabaseUnavailable) return
        this.#parts.log.error({ err: error, webhook: row.name }, 'a webhook could not be told: internal error')
        return this.#backOffAfterFault(row, error)
      })
      .finally(() => {
        this.#rounds.delete(row.no)
        this.#poller.wake()
      })
    this.#rounds.set(row.no, { appNo: row.appNo, isFailing, startedMs: now, done })
  }

  async #round(row: WebhookRow): Promise<void> {
    const { database, leaseMs, log } = this.#parts
    const told = this.#toldOf(row)
    const overAt = performance.now() + roundMs
    const mayGoOn = () => !this.#poller.isClosed && performance.now() < overAt
    let { failures } = row
    const mode = modeOf(row)
    while (mayGoOn()) {
      // Whoever did not hear is asked by a single request whether it does again.
      const isProbe = failures > 0
      const most = isProbe ? row.batch : roundEvents[mode]
      const pieces = Math.min(most, roundPieces)
      const claimed = await claimEntries(database, row.no, {
        most,
        entries: pieces,
        leaseMs,
        held: [...this.#held],
      })
      if (claimed.length === 0) return
      const startMs = performance.now()
      for (const { no } of claimed) this.#held.add(no)
      const inFlight = isProbe ? 1 : (this.#paces.get(row.no) ?? 2)
      const lease = new Lease(() => extendEntries(database, claimed, leaseMs), {
        leaseMs,
        onError: (error) => log.debug({ err: error, webhook: row.name }, 'cannot extend a lease'),
      })
      const round = await dispatchRound(database, told, claimed, { inFlight, failures, mayGoOn }).finally(() => {
        lease.end()
        for (const { no } of claimed) this.#held.delete(no)
      })
      this.#learn(row, inFlight, round.failures, (performance.now() - startMs) * Math.min(1, inFlight / claimed.length))
      failures = round.failures
      let requests = 0
      for (const [outcome, count] of round.outcomes) {
        requests += count
        this.#parts.told?.(outcome, count)
      }
      if (round.isBack) await makeEntriesDue(database, row.no)
      if (round.backoffMs > 0 || round.off !== undefined) return
      // Less than there was room for was all that was due.
      const events = claimed.reduce((all, { size }) => all + size, 0)
      if (!isProbe && events < most && claimed.length < pieces) return
      // What a broadcast brings in masses is told beside it, and for the most part after it.
      if (events >= manyEvents && this.#parts.isSending?.())
        await wait(Math.min(restShare * (performance.now() - startMs), maxBackoffMs))
      // A single failure among what it heard is no reason to hurry to the next.
      if (failures > 0 && requests > 0) return
    }
  }

  /** What cannot be told because of an internal error is not tried again and again at once. */
  async #backOffAfterFault(row: WebhookRow, error: unknown): Promise<void> {
    const fault =
      error instanceof SealBroken
        ? 'has an address that cannot be opened with the master keys that are there'
        : error instanceof EvaluationFailed
          ? `has a condition that ${error.message}`
          : 'could not be told because of an internal error, which the service’s log has'
    await this.#parts.database
      .change(
        receiverStatement(
          row.no,
          { failures: row.failures, backoffMs: faultBackoffMs, told: false, fault },
          row.changedAt,
        ),
      )
      .catch((again: unknown) => this.#parts.log.debug({ err: again }, 'the fault could not be noted'))
  }

  #learn({ no, batch }: WebhookRow, inFlight: number, failures: number, msEach: number): void {
    const most = maxInFlight[modeOf({ batch })]
    this.#paces.set(no, failures > 0 ? 1 : Math.min(most, inFlight * 2))
    if (msEach > slowMs) this.#slow.set(no, true)
    else this.#slow.delete(no)
  }

  #toldOf(row: WebhookRow): Destination {
    const { vault, service, evaluators } = this.#parts
    const secrets = openWebhook(vault, row)
    return {
      row,
      receiver: this.#receiverOf(row, secrets.url),
      secrets: signingSecrets(secrets, Date.now()),
      filter: eventFilter(evaluators, row.appNo, row.rule),
      origin: { app: row.app, environment: row.environment, service: service() },
    }
  }

  #receiverOf({ no, ca, batch }: WebhookRow, url: string): Receiver {
    const mode = modeOf({ batch })
    const key = `${url} ${ca ?? ''} ${mode}`
    const kept = this.#receivers.get(no)
    if (kept?.key === key) return kept.receiver
    const receiver = this.open(url, ca, maxInFlight[mode])
    this.#receivers.set(no, { receiver, key })
    return receiver
  }

  /** A way to a receiver of one’s own; whoever opens it closes it. */
  open(url: string, ca: string | null, connections: number): Receiver {
    const { guard, trusted, withinMs } = this.#parts
    return new Receiver(url, { guard, ca: [...trusted, ...(ca === null ? [] : [ca])], connections, withinMs })
  }
}
