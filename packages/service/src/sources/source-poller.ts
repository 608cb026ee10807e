import { beginningOf } from '@zbell/core'
import {
  type PollSource,
  pageOfKey,
  type Row,
  type SegmentSource,
  type SourceDefinition,
  TableRefused,
  TableSnapshot,
  type TableSource,
  tableLimits,
} from '@zbell/core/triggers'
import type { Logger } from 'pino'
import { Poller } from '../base/index.ts'
import { type Database, DatabaseUnavailable, Lease, type Tx, type Where } from '../database/index.ts'
import { EvaluationsBusy, type EvaluatorPool } from '../evaluation/index.ts'
import { publish } from '../events/index.ts'
import type { Vault } from '../vault/index.ts'
import type { Reach } from './connect.ts'
import { evaluateToJson } from './expressions.ts'
import { SourceFault } from './fault.ts'
import { unpacked } from './packed.ts'
import { OwnSnapshot } from './paged-snapshot.ts'
import { pollByCursor } from './poll-by-cursor.ts'
import { everySecondsOf, maxWaiting, type PollContext } from './poll-context.ts'
import { poll } from './poll-http.ts'
import { isFull, mayStart, type PollSlot, saturatedApps } from './poll-limits.ts'
import type { ReaderPool, SourceReader } from './reader-pool.ts'
import { openSecrets } from './secrets.ts'
import { segmentPeople } from './segment-people.ts'
import {
  countQueued,
  dueSources,
  endPoll,
  extendSourceLease,
  failPoll,
  isRead,
  keepState,
  LeaseLost,
  leaseSource,
  readPage,
  readState,
  releaseSource,
  requireLease,
  type SourceLease,
} from './store/polls.ts'
import { findSourceByNo, type SourceRow } from './store/sources.ts'
import { storeChanges } from './store-changes.ts'
import type { ColumnTypes } from './table-reader.ts'

/** A poll that gives no sign of life for so long is another process’s to make. */
const leaseMs = 15_000
/** So often it is asked what is due. */
const everyMs = 200
/** The longest rest of a source that cannot be read. */
const maxRestMs = 15_000
/** A poll is given up after so long, unless its process says otherwise. */
const maxPollMsDefault = 120_000
/** Not polled for longer than its interval and this: nobody was there. */
const awaySeconds = 60

export type SourceParts = Reach & {
  readonly database: Database
  readonly vault: Vault
  readonly evaluators: EvaluatorPool
  readonly readers: ReaderPool
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

  /** What a database shows, on a connection of its own. @throws {SourceFault} */
  withReader<T>(
    { appNo }: Pick<SourceRow, 'appNo'>,
    source: TableSource,
    url: string,
    work: (reader: SourceReader) => Promise<T>,
  ): Promise<T> {
    return this.#parts.readers.read({ appNo, from: { is: 'database', sourceNo: undefined, url, source } }, work)
  }

  /** What the expression of a polled source makes of an answer. @throws {SourceFault} */
  async withRows<T>(
    { appNo }: Pick<SourceRow, 'appNo'>,
    source: PollSource,
    text: string,
    work: (reader: SourceReader) => Promise<T>,
    signal?: AbortSignal,
  ): Promise<T> {
    const json = await this.#rowsOf(source, text, appNo)
    return this.#parts.readers.read({ appNo, from: { is: 'answer', json, source }, signal }, work)
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
        await this.#pollAs({
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
      else log.error({ err: error, source: lease.no }, 'a source could not be looked at: internal error')
    }
  }

  async #failed(lease: SourceLease, source: SourceRow, error: unknown): Promise<void> {
    const { database, log } = this.#parts
    this.#parts.onPolled?.(source.definition.kind, 'fault')
    const fault =
      error instanceof SourceFault || error instanceof TableRefused
        ? error.message
        : 'could not be looked at because of an internal error, which the service’s log has'
    if (!(error instanceof SourceFault || error instanceof TableRefused))
      log.error({ err: error, source: source.name }, 'a source could not be looked at: internal error')
    const afterMs = Math.min(maxRestMs, 1_000 * 2 ** Math.min(source.faults, 10))
    const times = await failPoll(database, lease, { fault, afterMs })
    // Once is a moment; twice in a row is something that a trigger’s log should publish, and once is enough.
    if (times === 2)
      await database.transact(async (tx) => {
        await this.#parts.onAway(tx, source, source.name, `its source ${source.name} ${fault}`)
        await publish(tx, source, ['source.away'], () => [
          { kind: 'source.away', subject: source.name, data: { source: source.name, says: fault } },
        ])
      })
  }

  #pollAs(context: PollContext): Promise<void> {
    const { definition } = context.source
    switch (definition.kind) {
      case 'table':
        return this.#pollTable(context, definition)
      case 'poll':
        return this.#pollAnswer(context, definition)
      case 'segment':
        return this.#pollSegment(context, definition)
      case 'incoming':
        return Promise.resolve()
      default:
        return definition satisfies never
    }
  }

  async #pollTable(context: PollContext, definition: TableSource): Promise<void> {
    const { signal, source, secrets } = context
    const from = { is: 'database', sourceNo: source.no, url: secrets.url ?? '', source: definition } as const
    await this.#parts.readers.read({ appNo: source.appNo, from, signal }, async (reader) => {
      if (definition.by === 'cursor') return pollByCursor(this.#parts.database, context, definition, reader)
      const { look, types } = await reader.look()
      const whole = definition.watch === undefined ? undefined : (rows: readonly Row[]) => reader.rows(rows, types)
      await storeChanges(this.#parts.database, context, look, types, whole)
    })
  }

  async #pollAnswer(context: PollContext, definition: PollSource): Promise<void> {
    const { database } = this.#parts
    const { lease, source, secrets, signal } = context
    const everySeconds = everySecondsOf(definition)
    const kept = source.taken ? await readState(database, source.no) : null
    const { etag } = kept === null ? { etag: undefined } : (JSON.parse(kept.toString('utf8')) as { etag?: string })
    const address = { url: secrets.url ?? '', headers: secrets.headers ?? {}, ca: definition.ca }
    const answer = await poll(address, { ...this.#parts, etag, signal })
    if (answer.is === 'same') {
      await database.transact(async (tx) => {
        await requireLease(tx, lease)
        await endPoll(tx, lease, { everySeconds, leftOut: source.leftOut ?? undefined })
      })
      return
    }
    const state = Buffer.from(JSON.stringify({ etag: answer.etag }))
    const store = async (reader: SourceReader) => {
      const { look } = await reader.look()
      const whole = definition.watch && ((rows: readonly Row[]) => reader.rows(rows, {}))
      await storeChanges(database, context, look, {}, whole, (tx) => keepState(tx, source.no, state))
    }
    await this.withRows(source, definition, answer.text, store, signal)
  }

  /** The rows of an answer, as JSON. @throws {SourceFault} */
  async #rowsOf({ rows }: PollSource, text: string, appNo: number): Promise<string> {
    const evaluation = { expression: rows, json: text }
    const json = await evaluateToJson(this.#parts.evaluators, { appNo }, evaluation).catch((error: unknown) => {
      if (!(error instanceof SourceFault || error instanceof EvaluationsBusy)) throw error
      throw new SourceFault(`has an expression “rows” that fails: ${error.message}`)
    })
    if (json === undefined) throw new SourceFault(`answered what is not JSON: ${beginningOf(text, 60)}`)
    return json
  }

  async #pollSegment(context: PollContext, definition: SegmentSource): Promise<void> {
    const { source } = context
    const { people, version } = await segmentPeople(this.#parts.database, source, definition, tableLimits.rows + 1)
    const look = new TableSnapshot(['user'], ['segment'])
    for (const user of people) look.see({ user, segment: definition.segment })
    // Another rule is another segment: who is in it by that is no news.
    await storeChanges(
      this.#parts.database,
      context,
      new OwnSnapshot(look),
      { [definition.segment]: `version ${version}` },
      undefined,
    )
  }

  /** Types of the columns of a source by name, so far as they are known: of all while it can be asked. */
  async typesOf(source: SourceRow): Promise<ColumnTypes> {
    const { definition } = source
    const known = source.columns ?? {}
    if (definition.kind !== 'table') return {}
    try {
      const { url = '' } = openSecrets(this.#parts.vault, source)
      const { columns } = await this.withReader(source, definition, url, (reader) => reader.sample())
      return Object.fromEntries(columns.map(({ name, type }) => [name, type]))
    } catch (error) {
      if (error instanceof SourceFault) return known
      throw error
    }
  }

  /** Rows as they are by now, by their keys; those that are gone are not among them. @throws {SourceFault} */
  async freshRows(
    source: SourceRow,
    rows: readonly { readonly key: string; readonly row: Row }[],
  ): Promise<ReadonlyMap<string, Row>> {
    const { database, vault } = this.#parts
    const { definition } = source
    switch (definition.kind) {
      case 'table': {
        const { url = '' } = openSecrets(vault, source)
        return this.withReader(source, definition, url, (reader) =>
          reader.rows(
            rows.map(({ row }) => row),
            source.columns ?? {},
          ),
        )
      }
      case 'poll':
      case 'segment': {
        const look =
          definition.kind === 'poll'
            ? new TableSnapshot(definition.key, definition.watch)
            : new TableSnapshot(['user'], ['segment'])
        const found = new Map<string, Row>()
        for (const { key, row } of rows) {
          const page = await unpacked(await readPage(database, source.no, pageOfKey(key)))
          const now = look.find(page, key)
          if (now) found.set(key, { ...row, ...now })
        }
        return found
      }
      case 'incoming':
        return new Map(rows.map(({ key, row }) => [key, row]))
      default:
        return definition satisfies never
    }
  }
}
