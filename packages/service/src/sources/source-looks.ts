import { createHash } from 'node:crypto'
import { setImmediate as turn } from 'node:timers/promises'
import { promisify } from 'node:util'
import { deflate, inflate } from 'node:zlib'
import {
  type CursorState,
  cursorAt,
  keyOfRow,
  loggedRow,
  lookEvery,
  type PollSource,
  pageOfKey,
  type Row,
  type RowChange,
  readFrom,
  type SegmentSource,
  type SourceDefinition,
  TableLook,
  TableRefused,
  type TableSource,
  tableLimits,
  takeRows,
} from '@zbell/core/triggers'
import type { Logger } from 'pino'
import type { AddressGuard } from '../gateways/address-guard.ts'
import { findAppByNo } from '../store/apps/apps.ts'
import type { Database, Tx } from '../store/database.ts'
import { DatabaseUnavailable } from '../store/errors.ts'
import { readyRule } from '../store/rules/ready-rule.ts'
import { rulePeople } from '../store/rules/rule-members.ts'
import { searchRule } from '../store/rules/rule-search.ts'
import { findSegment } from '../store/segments/segments.ts'
import {
  countFound,
  dropPages,
  endLook,
  failLook,
  type HeldSource,
  holdSource,
  holdSources,
  isRead,
  keepHold,
  keepState,
  LookLost,
  leaveFound,
  leaveLook,
  pageDigests,
  readPage,
  readState,
  stillHeld,
  storePage,
} from '../store/sources/looks.ts'
import { findSourceByNo, type SourceRow } from '../store/sources/sources.ts'
import { sourceAwayFirings } from '../store/triggers/firings.ts'
import { SealBroken, type Vault } from '../vault/vault.ts'
import { connect } from './connect.ts'
import { Expressions } from './expressions.ts'
import { SourceFault } from './fault.ts'
import { poll, rowsOf } from './poll.ts'
import { openSecrets, type SourceSecrets } from './secrets.ts'
import { boundedRow, type SqlConnection } from './sql-connection.ts'
import { type ColumnTypes, overlapMs, type Place, TableReader } from './table-reader.ts'

/** A look that gives no sign of life for so long is another process’s to make. */
const leaseMs = 15_000
/** So many sources are looked at at a time. */
const atOnce = 6
/** So often it is asked what is due. */
const everyMs = 200
/** The longest rest of a source that cannot be read. */
const longestRestMs = 15_000
/** A look is given up after so long. */
const longestLookMs = 120_000
/** So many rows are read by cursor at a time, and so many changes go in a transaction. */
const stepRows = 5_000
/** After so long a look by cursor goes on with the next, so that others have their turn. */
const stepsMs = 30_000
const changesTogether = 1_000
/** A source whose triggers are so far behind waits for them. */
const mostWaiting = 20_000
/** A connection that nobody uses for so long is given up. */
const idleMs = 60_000
/** Nobody had looked for longer than its interval and this: it was away. */
const awaySeconds = 60
/** A segment that a source looks at is counted for so long at most. */
const segmentWithinMs = 10_000

/** A row as it waits: JSON has no moments, so it says which of its values are. */
export type KeptFound = FoundRow & { readonly moments: readonly string[] }

/** What a source found, as its triggers get it. */
export type FoundRow = {
  readonly key: string
  readonly row: Readonly<Record<string, unknown>>
  readonly before: Readonly<Record<string, unknown>>
  readonly gone: boolean
}

export type SourceParts = {
  readonly database: Database
  readonly vault: Vault
  readonly guard: AddressGuard
  /** Certificates to trust beside a source’s own. */
  readonly trusted: readonly string[]
  readonly log: Logger
  /** Hears how each look ended. */
  looked?(kind: SourceDefinition['kind'], outcome: 'fine' | 'fault'): void
}

type Looking = {
  readonly held: HeldSource
  readonly source: SourceRow
  readonly secrets: SourceSecrets
  readonly signal: AbortSignal
  /** For so many seconds nobody had looked, beyond what is usual. */
  readonly late: number
  readonly isRead: boolean
}

const pack = promisify<Buffer, { level: number }, Buffer>(deflate)
const unpack = promisify<Buffer, Buffer>(inflate)
const packed = (text: string): Promise<Buffer> => pack(Buffer.from(text), { level: 1 })
const unpacked = async (bytes: Buffer | undefined): Promise<string> =>
  bytes === undefined ? '' : (await unpack(bytes)).toString('utf8')
const digestOf = (text: string): Buffer => createHash('sha256').update(text).digest().subarray(0, 16)

export const everySecondsOf = (definition: SourceDefinition): number =>
  definition.kind === 'incoming' ? 0 : (definition.everySeconds ?? lookEvery[definition.kind])

/**
 * Looks at sources, each by one process at a time. What is found and that it was found are one transaction: whatever dies, a
 * change waits for its triggers once.
 */
export class SourceLooks {
  readonly #parts: SourceParts
  readonly expressions = new Expressions()
  readonly #looking = new Map<number, { readonly done: Promise<void>; readonly giveUp: AbortController }>()
  /** Connections that are kept between looks, by source; each belongs to one address and one account. */
  readonly #connections = new Map<
    number,
    { readonly url: string; readonly connection: SqlConnection; usedMs: number }
  >()
  #timer: NodeJS.Timeout | undefined
  #isClosed = false

  constructor(parts: SourceParts) {
    this.#parts = parts
  }

  start(afterMs = everyMs): void {
    this.#timer = setTimeout(() => {
      void this.#takeDue().then(() => {
        if (!this.#isClosed) this.start()
      })
    }, afterMs)
    this.#timer.unref()
  }

  async close(): Promise<void> {
    this.#isClosed = true
    clearTimeout(this.#timer)
    const looking = [...this.#looking.values()]
    for (const { giveUp } of looking) giveUp.abort()
    await Promise.all(looking.map(({ done }) => done))
    for (const { connection } of this.#connections.values()) connection.destroy()
    this.#connections.clear()
    this.expressions.close()
  }

  async #takeDue(): Promise<void> {
    const { database, log } = this.#parts
    this.#dropIdle()
    const room = atOnce - this.#looking.size
    if (room <= 0) return
    try {
      for (const held of await holdSources(database, room, leaseMs)) void this.#begin(held)
    } catch (error) {
      const isAway = error instanceof DatabaseUnavailable
      log[isAway ? 'debug' : 'warn']({ err: error }, 'sources could not be looked at, and are again soon')
    }
  }

  /** Looks at a source now, unless somebody is. */
  async lookAt(no: number): Promise<void> {
    const held = await holdSource(this.#parts.database, no, leaseMs)
    if (held) await this.#begin(held)
  }

  /** What a database shows, on a connection of its own. @throws {SourceFault} */
  async withReader<T>(source: TableSource, url: string, work: (reader: TableReader) => Promise<T>): Promise<T> {
    const { guard, trusted } = this.#parts
    const connection = await connect(url, { ca: source.ca, guard, trusted })
    try {
      await connection.begin()
      return await work(new TableReader(connection, source))
    } finally {
      connection.destroy()
    }
  }

  #begin(held: HeldSource): Promise<void> {
    const giveUp = new AbortController()
    const { database } = this.#parts
    const beat = setInterval(() => {
      keepHold(database, held, leaseMs).then(
        (isOurs) => isOurs || giveUp.abort(),
        () => {}, // The lease runs out, and the last transaction finds that it has.
      )
    }, leaseMs / 3)
    const enough = setTimeout(() => giveUp.abort(), longestLookMs)
    const done = this.#look(held, giveUp.signal).finally(() => {
      clearInterval(beat)
      clearTimeout(enough)
      this.#looking.delete(held.no)
    })
    this.#looking.set(held.no, { done, giveUp })
    return done
  }

  /** Never throws: what fails is said where the source is shown. */
  async #look(held: HeldSource, signal: AbortSignal): Promise<void> {
    const { database, vault, log } = this.#parts
    try {
      const source = await findSourceByNo(database, held.no)
      if (!source) return
      try {
        const waiting = await countFound(database, source, source.no, mostWaiting)
        if (waiting >= mostWaiting) {
          await leaveLook(database, held, 1_000)
          return
        }
        const every = everySecondsOf(source.definition)
        const silent = source.silentSeconds ?? 0
        await this.#lookAs({
          held,
          source,
          secrets: openSecrets(vault, source),
          signal,
          late: silent > every + awaySeconds ? silent : 0,
          isRead: await isRead(database, source, source.name),
        })
        this.#parts.looked?.(source.definition.kind, 'fine')
      } catch (error) {
        if (error instanceof LookLost || error instanceof DatabaseUnavailable) throw error
        await this.#failed(held, source, error)
      }
    } catch (error) {
      this.#drop(held.no)
      if (error instanceof LookLost || error instanceof DatabaseUnavailable)
        log.debug({ err: error, source: held.no }, 'a look at a source was given up')
      else log.error({ err: error, source: held.no }, 'a source could not be looked at, by a fault of ours')
    }
  }

  async #failed(held: HeldSource, source: SourceRow, error: unknown): Promise<void> {
    const { database, log } = this.#parts
    this.#drop(source.no)
    this.#parts.looked?.(source.definition.kind, 'fault')
    const fault =
      error instanceof SourceFault || error instanceof TableRefused
        ? error.message
        : error instanceof SealBroken
          ? 'has an address that cannot be opened with the master keys that are there'
          : 'could not be looked at, by a fault of ours, which the service’s log tells'
    if (!(error instanceof SourceFault || error instanceof TableRefused))
      log.error({ err: error, source: source.name }, 'a source could not be looked at, by a fault of ours')
    const afterMs = Math.min(longestRestMs, 1_000 * 2 ** Math.min(source.faults, 10))
    const times = await failLook(database, held, { fault, afterMs })
    // Once is a moment; twice in a row is something that a trigger’s log should tell, and once is enough.
    if (times === 2) await sourceAwayFirings(database, source, source.name, `its source ${source.name} ${fault}`)
  }

  #lookAs(looking: Looking): Promise<void> {
    const { definition } = looking.source
    switch (definition.kind) {
      case 'table':
        return this.#lookAtTable(looking, definition)
      case 'poll':
        return this.#lookAtAnswer(looking, definition)
      case 'segment':
        return this.#lookAtSegment(looking, definition)
      case 'incoming':
        return Promise.resolve()
      default:
        return definition satisfies never
    }
  }

  async #lookAtTable(looking: Looking, definition: TableSource): Promise<void> {
    const { signal, source, secrets } = looking
    const connection = await this.#ready(source.no, secrets.url ?? '', definition)
    const stop = () => {
      this.#connections.delete(source.no)
      connection.destroy()
    }
    signal.addEventListener('abort', stop, { once: true })
    try {
      const reader = new TableReader(connection, definition)
      if (definition.by === 'cursor') await this.#lookByCursor(looking, definition, reader)
      else {
        const { look, types } = await reader.look()
        const whole = definition.watch === undefined ? undefined : (rows: readonly Row[]) => reader.rows(rows, types)
        await this.#storeLook(looking, look, types, whole)
      }
      await connection.end()
    } catch (error) {
      if (signal.aborted && !this.#isClosed) throw new SourceFault(`took longer than ${longestLookMs / 1_000} seconds`)
      throw signal.aborted ? new LookLost('the service stops') : error
    } finally {
      signal.removeEventListener('abort', stop)
    }
  }

  /** A connection that has begun to read: the one that was kept, unless it was hung up on meanwhile. */
  async #ready(no: number, url: string, { ca }: TableSource): Promise<SqlConnection> {
    const kept = this.#connections.get(no)
    const name = `${url} ${ca ?? ''}`
    if (kept?.url === name) {
      const isThere = await kept.connection.begin().then(
        () => true,
        (error: unknown) => {
          if (error instanceof SourceFault) return false
          throw error
        },
      )
      kept.usedMs = Date.now()
      if (isThere) return kept.connection
    }
    this.#drop(no)
    const { guard, trusted } = this.#parts
    const connection = await connect(url, { ca, guard, trusted })
    this.#connections.set(no, { url: name, connection, usedMs: Date.now() })
    await connection.begin()
    return connection
  }

  /** Hangs up where nobody has looked for a while: another process may, or nobody any more. */
  #dropIdle(): void {
    const now = Date.now()
    for (const [no, { usedMs }] of this.#connections)
      if (now - usedMs > idleMs && !this.#looking.has(no)) this.#drop(no)
  }

  #drop(no: number): void {
    this.#connections.get(no)?.connection.destroy()
    this.#connections.delete(no)
  }

  async #lookByCursor(looking: Looking, definition: TableSource, reader: TableReader): Promise<void> {
    const { database } = this.#parts
    const { held, source, isRead: hasReaders, signal } = looking
    const everySeconds = everySecondsOf(definition)
    const now = Date.now()
    const kept = source.taken ? await readState(database, source.no) : null
    const begin = async (anew: string | undefined) => {
      const { rows, types } = await reader.last()
      const state = await packed(JSON.stringify({ state: cursorAt(rows, now), late: 0 }))
      await database.transact(async (tx) => {
        await stillHeld(tx, held)
        await keepState(tx, source.no, state)
        const note = `begins ${anew === undefined ? '' : 'anew '}behind the rows that there are`
        await endLook(tx, held, {
          everySeconds,
          columns: types,
          note: anew === undefined ? note : `${note}: ${anew}`,
        })
      })
    }
    if (kept === null) return begin(undefined)
    let { state, late } = JSON.parse(await unpacked(kept)) as { state: CursorState; late: number }
    late = Math.max(late, looking.late)
    const from = readFrom(state)
    let behind: Place | undefined
    let leftOut = 0
    let found = 0
    for (;;) {
      const { rows, types } = await reader.next(from, behind, stepRows)
      const other = differing(source.columns, types)
      if (other !== undefined) return begin(other)
      const taken = takeRows(state, rows, now, overlapMs(definition))
      state = taken.state
      const fresh = taken.fresh.filter(({ key }) => key !== '')
      leftOut += taken.fresh.length - fresh.length
      found += fresh.length
      const isEnd = rows.length < stepRows
      const isEnough =
        !isEnd &&
        (Date.now() - now > stepsMs ||
          (hasReaders && (await countFound(database, source, source.no, mostWaiting)) >= mostWaiting))
      const bytes = await packed(JSON.stringify({ state, late: isEnd ? 0 : late }))
      await database.transact(async (tx) => {
        await stillHeld(tx, held)
        const events = fresh.map(({ key, row }): FoundRow => ({ key, row, before: {}, gone: false }))
        if (hasReaders) await leaveFound(tx, source, source.no, events.map(keptFound), late)
        await keepState(tx, source.no, bytes)
        if (isEnd || isEnough)
          await endLook(tx, held, {
            everySeconds: isEnd ? everySeconds : 1,
            ...(late > 0 && found > 0 ? { note: noteOfLate(late, found) } : {}),
            ...(leftOut > 0 ? { leftOut: `${leftOut} rows have no key, or one too long` } : {}),
          })
      })
      if (isEnd || isEnough || signal.aborted) return
      const end = rows.at(-1)!
      behind = { cursor: end.cursor, keys: end.raw }
    }
  }

  async #lookAtAnswer(looking: Looking, definition: PollSource): Promise<void> {
    const { database, guard, trusted } = this.#parts
    const { held, source, secrets } = looking
    const everySeconds = everySecondsOf(definition)
    const kept = source.taken ? await readState(database, source.no) : null
    const { etag } = kept === null ? { etag: undefined } : (JSON.parse(kept.toString('utf8')) as { etag?: string })
    const address = { url: secrets.url ?? '', headers: secrets.headers ?? {}, ca: definition.ca }
    const answer = await poll(address, { etag, guard, trusted })
    if (answer.is === 'same') {
      await database.transact(async (tx) => {
        await stillHeld(tx, held)
        await endLook(tx, held, { everySeconds, leftOut: source.leftOut ?? undefined })
      })
      return
    }
    const rows = await this.pickRows(definition, answer.text)
    const look = new TableLook(definition.key, definition.watch)
    const whole = new Map<string, Row>()
    const wanted = [...definition.key, ...(definition.watch ?? [])]
    for (const row of rows) {
      const own = { ...Object.fromEntries(wanted.map((name) => [name, null])), ...row } as Row
      look.see(own)
      if (definition.watch) whole.set(keyOrText(own, definition.key), boundedRow(row as Row))
    }
    const state = Buffer.from(JSON.stringify({ etag: answer.etag }))
    await this.#storeLook(looking, look, {}, definition.watch && (async () => whole), (tx) =>
      keepState(tx, source.no, state),
    )
  }

  /** The rows of an answer. @throws {SourceFault} */
  async pickRows({ rows }: PollSource, text: string): Promise<Record<string, unknown>[]> {
    try {
      JSON.parse(text)
    } catch {
      throw new SourceFault(`answered what is not JSON: ${text.slice(0, 60)}`)
    }
    try {
      return rowsOf(await this.expressions.evaluate(rows, text))
    } catch (error) {
      if (error instanceof SourceFault && !error.message.startsWith('has an'))
        throw new SourceFault(`has an expression “rows” that fails: ${error.message}`)
      throw error
    }
  }

  async #lookAtSegment(looking: Looking, definition: SegmentSource): Promise<void> {
    const { source } = looking
    const { people, version } = await this.segmentPeople(source, definition, tableLimits.rows + 1)
    const look = new TableLook(['user'], ['segment'])
    for (const user of people) look.see({ user, segment: definition.segment })
    // Another rule is another segment: who is in it by that is no news.
    await this.#storeLook(looking, look, { [definition.segment]: `version ${version}` }, undefined)
  }

  /** Who is in a segment, by name. @throws {SourceFault} */
  async segmentPeople(
    where: Pick<SourceRow, 'appNo' | 'environment'>,
    { segment }: SegmentSource,
    limit: number,
  ): Promise<{ readonly people: readonly string[]; readonly version: number }> {
    const { database } = this.#parts
    const found = await findSegment(database, where, segment)
    if (!found) throw new SourceFault(`reads the segment ${segment}, which there is not`)
    const app = await findAppByNo(database, where.appNo)
    if (!app) throw new SourceFault('belongs to an app that has gone')
    const { term, context } = await readyRule(database, where, found.rule, Date.now(), {})
    const bounded = database.bounded({ withinMs: segmentWithinMs })
    const search = await searchRule(bounded, term, context)
    const people = await rulePeople(bounded, { app, environment: where.environment }, search, limit)
    return { people, version: found.version }
  }

  /**
   * Holds a look against the one before, and lets what is new, changed and gone wait for the triggers, page by page.
   * @param whole whole rows by their keys, where a look has only what is watched of them
   */
  async #storeLook(
    { held, source, late, isRead: hasReaders, signal }: Looking,
    look: TableLook,
    types: ColumnTypes,
    whole: ((rows: readonly Row[]) => Promise<ReadonlyMap<string, Row>>) | undefined,
    atEnd: (tx: Tx) => Promise<unknown> = async () => {},
  ): Promise<void> {
    const { database } = this.#parts
    const everySeconds = everySecondsOf(source.definition)
    const other = differing(source.columns, types)
    const isFirst = !source.taken || other !== undefined
    const before = new Map(
      isFirst ? [] : (await pageDigests(database, source.no)).map(({ page, digest }) => [page, digest]),
    )
    let changes: RowChange[] = []
    let pages: { readonly page: number; readonly digest: Buffer; readonly bytes: Buffer }[] = []
    let found = 0
    let isDropped = !isFirst
    const flush = async (end?: (tx: Tx) => Promise<void>) => {
      const events = hasReaders && changes.length > 0 ? await foundRows(changes, whole) : []
      const stored = pages
      found += changes.length
      changes = []
      pages = []
      await database.transact(async (tx) => {
        await stillHeld(tx, held)
        if (!isDropped) await dropPages(tx, source.no)
        for (const { page, digest, bytes } of stored) await storePage(tx, source.no, page, digest, bytes)
        await leaveFound(tx, source, source.no, events.map(keptFound), late)
        await end?.(tx)
      })
      isDropped = true
    }
    for (let page = 0; page < tableLimits.pages; page++) {
      // Between two pages whatever else this process does has its turn.
      if (page % 8 === 0) await turn()
      if (signal.aborted) throw new LookLost('the look was given up')
      const text = look.page(page)
      if (isFirst && text === '') continue
      const digest = digestOf(text)
      const old = before.get(page)
      if (old === undefined ? text === '' : old.equals(digest)) continue
      // In a first look too, so that a key that stands twice is found.
      const was = isFirst || old === undefined ? '' : await unpacked(await readPage(database, source.no, page))
      const inPage = look.changes(was, text)
      if (!isFirst) changes.push(...inPage)
      pages.push({ page, digest, bytes: await packed(text) })
      if (changes.length >= changesTogether || pages.length >= 64) await flush()
    }
    const { leftOut } = look
    await flush(async (tx) => {
      await atEnd(tx)
      await endLook(tx, held, {
        everySeconds,
        ...(isFirst ? { columns: types } : {}),
        ...noteOf({ isFirst, wasTaken: source.taken, other, rows: look.rows, late, found }),
        ...(leftOut ? { leftOut: `${leftOut.count} rows are left out; the first ${leftOut.says}` } : {}),
      })
    })
  }

  /** Types of the columns of a source by name, so far as they are known: of all while it can be asked. */
  async typesOf(source: SourceRow): Promise<ColumnTypes> {
    const { definition } = source
    const known = source.columns ?? {}
    if (definition.kind !== 'table') return {}
    try {
      const { url = '' } = openSecrets(this.#parts.vault, source)
      const { columns } = await this.withReader(definition, url, (reader) => reader.sample())
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
        return this.withReader(definition, url, (reader) =>
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
            ? new TableLook(definition.key, definition.watch)
            : new TableLook(['user'], ['segment'])
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

export const keptFound = (found: FoundRow): KeptFound => ({
  ...found,
  moments: [
    ...new Set(
      [found.row, found.before].flatMap((row) => Object.keys(row).filter((name) => row[name] instanceof Date)),
    ),
  ],
})

/** As it was found. */
export function foundOf({ moments, ...found }: KeptFound): FoundRow {
  const named = new Set(moments)
  const revived = (row: FoundRow['row']) =>
    Object.fromEntries(
      Object.entries(row).map(([name, value]) => [
        name,
        named.has(name) && typeof value === 'string' ? new Date(value) : value,
      ]),
    )
  return { ...found, row: revived(found.row), before: revived(found.before) }
}

async function foundRows(
  changes: readonly RowChange[],
  whole: ((rows: readonly Row[]) => Promise<ReadonlyMap<string, Row>>) | undefined,
): Promise<FoundRow[]> {
  const there = changes.filter(({ gone }) => !gone)
  const rows = whole && there.length > 0 ? await whole(there.map(({ row }) => row)) : undefined
  return changes.map(({ key, row, before, gone }) => ({
    key,
    row: (gone ? undefined : rows?.get(key)) ?? row,
    before,
    gone,
  }))
}

/** Which columns are not what they were, in words. */
function differing(was: ColumnTypes | null, is: ColumnTypes): string | undefined {
  if (was === null) return undefined
  const said = [...new Set([...Object.keys(was), ...Object.keys(is)])].flatMap((name) =>
    was[name] === is[name]
      ? []
      : [
          `${name} ${was[name] === undefined ? 'is new' : is[name] === undefined ? 'has gone' : `is ${is[name]} now, and was ${was[name]}`}`,
        ],
  )
  return said.length === 0 ? undefined : said.slice(0, 5).join(', ')
}

function noteOf(what: {
  readonly isFirst: boolean
  readonly wasTaken: boolean
  readonly other: string | undefined
  readonly rows: number
  readonly late: number
  readonly found: number
}): { readonly note?: string } {
  const { isFirst, wasTaken, other, rows, late, found } = what
  const count = `${rows.toLocaleString('en')} ${rows === 1 ? 'row' : 'rows'}`
  if (isFirst) return { note: wasTaken ? `took in ${count} anew: ${other}` : `took in ${count}` }
  return late > 0 ? { note: noteOfLate(late, found) } : {}
}

const noteOfLate = (seconds: number, found: number): string =>
  `nobody had looked for ${durationText(seconds)}; ${found.toLocaleString('en')} rows had changed`

export function durationText(seconds: number): string {
  if (seconds < 120) return `${seconds} seconds`
  return seconds < 7_200 ? `${Math.round(seconds / 60)} minutes` : `${Math.round(seconds / 3_600)} hours`
}

function keyOrText(row: Row, key: readonly string[]): string {
  try {
    return keyOfRow(row, key)
  } catch (error) {
    if (error instanceof TableRefused) return ''
    throw error
  }
}

/** What the log keeps of what a source found: what is watched, without what the source hides. */
export function loggedFound(source: SourceDefinition, { row, before, gone }: FoundRow): Record<string, unknown> {
  const isKept = source.kind === 'table' || source.kind === 'poll'
  const of: { readonly watch?: readonly string[] | undefined; readonly mask?: readonly string[] | undefined } = isKept
    ? source
    : {}
  const key = isKept ? source.key : []
  return {
    row: loggedRow(row, of, key),
    ...(Object.keys(before).length > 0 ? { before: loggedRow(before, of, key) } : {}),
    ...(gone ? { gone } : {}),
  }
}
