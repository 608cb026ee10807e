import { type SourceDefinition, TableRefused } from '@zbell/core/triggers'
import type { Logger } from 'pino'
import { Poller } from '../base/index.ts'
import { type Database, DatabaseUnavailable, Lease, type Tx, type Where } from '../database/index.ts'
import type { EvaluatorPool } from '../evaluation/index.ts'
import { publish } from '../events/index.ts'
import type { Vault } from '../vault/index.ts'
import type { Reach } from './connect.ts'
import { SourceFault } from './fault.ts'
import { pollByKind } from './poll-by-kind.ts'
import { everySecondsOf, maxWaiting } from './poll-context.ts'
import { isFull, mayStart, type PollSlot, saturatedApps } from './poll-limits.ts'
import type { ReaderPool } from './reader-pool.ts'
import { openSecrets } from './secrets.ts'
import type { SourceQueries } from './source-queries.ts'
import {
  countQueued,
  dueSources,
  extendSourceLease,
  failPoll,
  isRead,
  LeaseLost,
  leaseSource,
  releaseSource,
  type SourceLease,
} from './store/polls.ts'
import { findSourceByNo, type SourceRow } from './store/sources.ts'

/** A poll that gives no sign of life for so long is another process’s to make. */
const leaseMs = 15_000
/** So often it is asked what is due. */
const everyMs = 200
/** The longest rest of a source that cannot be read. */
const maxBackoffMs = 15_000
/** A poll is given up after so long, unless its process says otherwise. */
const maxPollMsDefault = 120_000
/** Not polled for longer than its interval and this: nobody was there. */
const awaySeconds = 60

export type SourceParts = Reach & {
  readonly database: Database
  readonly vault: Vault
  readonly evaluators: EvaluatorPool
  readonly readers: ReaderPool
  readonly queries: SourceQueries
  readonly log: Logger
  /** A poll is given up after so long; two minutes when left out. */
  readonly maxPollMs?: number
  /** Called, within the transaction, when a source could not be read again and again. */
  readonly onAway: (tx: Tx, where: Where, source: string, says: string) => Promise<void>
  /** Called with how each poll ended. */
  onPolled?(kind: SourceDefinition['kind'], outcome: 'fine' | 'fault'): void
}

/**
 * Polls sources, each by one process at a time. What is found and that it was found are one transaction: whatever dies, a
 * change waits for its triggers once.
 */
export class SourcePoller {
  readonly #parts: SourceParts
  readonly #polls = new Map<number, PollSlot & { readonly done: Promise<void>; readonly giveUp: AbortController }>()
  readonly #poller: Poller
  #isClosed = false

  constructor(parts: SourceParts) {
    this.#parts = parts
    this.#poller = new Poller({ name: 'sources', everyMs, log: parts.log, poll: () => this.#beginDue() })
  }

  start(afterMs = everyMs): void {
    this.#poller.start(afterMs)
  }

  async close(): Promise<void> {
    this.#isClosed = true
    const closing = this.#poller.close()
    const polling = [...this.#polls.values()]
    for (const { giveUp } of polling) giveUp.abort(new LeaseLost('the service stops'))
    await closing
    await Promise.all(polling.map(({ done }) => done))
  }

  async #beginDue(): Promise<void> {
    const { database } = this.#parts
    this.#parts.readers.endIdle()
    const going = () => [...this.#polls.values()]
    if (isFull(going())) return
    for (const source of await dueSources(database, saturatedApps(going()))) {
      if (this.#isClosed || isFull(going())) return
      if (!mayStart(source, going())) continue
      const lease = await leaseSource(database, source.no, leaseMs, { ifDue: true })
      if (lease) void this.#begin(lease, source)
    }
  }

  /** Polls a source now, unless it is being polled. */
  async pollNow(no: number): Promise<void> {
    const lease = await leaseSource(this.#parts.database, no, leaseMs)
    // Somebody waits for it, and it is in nobody’s way.
    if (lease) await this.#begin(lease, { appNo: 0, isAtFault: false })
  }

  #begin(lease: SourceLease, { appNo, isAtFault }: PollSlot): Promise<void> {
    const giveUp = new AbortController()
    const { database, maxPollMs = maxPollMsDefault } = this.#parts
    const alive = new Lease(() => extendSourceLease(database, lease, leaseMs), {
      leaseMs,
      onError: () => {}, // The lease runs out, and the last transaction finds that it has.
    })
    alive.lost.addEventListener('abort', () => giveUp.abort(new LeaseLost('the lease was lost')))
    const enough = setTimeout(
      () => giveUp.abort(new SourceFault(`took longer than ${maxPollMs / 1_000} seconds`)),
      maxPollMs,
    )
    const done = this.#poll(lease, giveUp.signal).finally(() => {
      alive.end()
      clearTimeout(enough)
      this.#polls.delete(lease.no)
    })
    this.#polls.set(lease.no, { done, giveUp, appNo, isAtFault })
    return done
  }

  /** Never throws: what fails is said where the source is shown. */
  async #poll(lease: SourceLease, signal: AbortSignal): Promise<void> {
    const { database, vault, log } = this.#parts
    try {
      const source = await findSourceByNo(database, lease.no)
      if (!source) return
      try {
        const waiting = await countQueued(database, source, source.no, maxWaiting)
        if (waiting >= maxWaiting) {
          await releaseSource(database, lease, 1_000)
          return
        }
        const every = everySecondsOf(source.definition)
        const silent = source.silentSeconds ?? 0
        await pollByKind(this.#parts, {
          lease,
          source,
          secrets: openSecrets(vault, source),
          signal,
          late: silent > every + awaySeconds ? silent : 0,
          isRead: await isRead(database, source, source.name),
        })
        this.#parts.onPolled?.(source.definition.kind, 'fine')
      } catch (thrown) {
        // Why it was given up, rather than what that made of it.
        const error: unknown = signal.aborted ? signal.reason : thrown
        if (error instanceof LeaseLost || error instanceof DatabaseUnavailable) throw error
        await this.#failed(lease, source, error)
      }
    } catch (error) {
      // Whoever is there next need not wait until the lease runs out.
      if (this.#isClosed) await releaseSource(database, lease, 0).catch(() => {})
      if (error instanceof LeaseLost || error instanceof DatabaseUnavailable)
        log.debug({ err: error, source: lease.no }, 'a poll at a source was given up')
      else log.error({ err: error, source: lease.no }, 'a source could not be polled: internal error')
    }
  }

  async #failed(lease: SourceLease, source: SourceRow, error: unknown): Promise<void> {
    const { database, log } = this.#parts
    this.#parts.onPolled?.(source.definition.kind, 'fault')
    const fault =
      error instanceof SourceFault || error instanceof TableRefused
        ? error.message
        : 'could not be polled because of an internal error, which the service’s log has'
    if (!(error instanceof SourceFault || error instanceof TableRefused))
      log.error({ err: error, source: source.name }, 'a source could not be polled: internal error')
    const afterMs = Math.min(maxBackoffMs, 1_000 * 2 ** Math.min(source.faults, 10))
    const times = await failPoll(database, lease, { fault, afterMs })
    // A single failure may be a moment’s; the second in a row is logged for its triggers, and no later one.
    if (times === 2)
      await database.transact(async (tx) => {
        await this.#parts.onAway(tx, source, source.name, `its source ${source.name} ${fault}`)
        await publish(tx, source, ['source.away'], () => [
          { kind: 'source.away', subject: source.name, data: { source: source.name, says: fault } },
        ])
      })
  }
}
