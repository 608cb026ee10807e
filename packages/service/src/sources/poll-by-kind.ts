import {
  type PollSource,
  type Row,
  type SegmentSource,
  TableSnapshot,
  type TableSource,
  tableLimits,
} from '@zbell/core/triggers'
import type { Database } from '../database/index.ts'
import type { Reach } from './connect.ts'
import { OwnSnapshot } from './paged-snapshot.ts'
import { pollByCursor } from './poll-by-cursor.ts'
import { everySecondsOf, type PollContext } from './poll-context.ts'
import { poll } from './poll-http.ts'
import type { ReaderPool, SourceReader } from './reader-pool.ts'
import { segmentPeople } from './segment-people.ts'
import type { SourceQueries } from './source-queries.ts'
import { endPoll, keepState, readState, requireLease } from './store/polls.ts'
import { storeChanges } from './store-changes.ts'

export type PollParts = Reach & {
  readonly database: Database
  readonly readers: ReaderPool
  readonly queries: SourceQueries
}

/**
 * Reads a source as its kind is read, and stores what has changed since.
 * @throws {SourceFault} @throws {LeaseLost} @throws {TableRefused}
 */
export function pollByKind(parts: PollParts, context: PollContext): Promise<void> {
  const { definition } = context.source
  switch (definition.kind) {
    case 'table':
      return pollTable(parts, context, definition)
    case 'poll':
      return pollAnswer(parts, context, definition)
    case 'segment':
      return pollSegment(parts, context, definition)
    case 'incoming':
      return Promise.resolve()
    default:
      return definition satisfies never
  }
}

async function pollTable(parts: PollParts, context: PollContext, definition: TableSource): Promise<void> {
  const { signal, source, secrets } = context
  const from = { is: 'database', sourceNo: source.no, url: secrets.url ?? '', source: definition } as const
  await parts.readers.read({ appNo: source.appNo, from, signal }, async (reader) => {
    if (definition.by === 'cursor') return pollByCursor(parts.database, context, definition, reader)
    const { snapshot, types } = await reader.snapshot()
    const whole = definition.watch === undefined ? undefined : (rows: readonly Row[]) => reader.rows(rows, types)
    await storeChanges(parts.database, context, snapshot, types, whole)
  })
}

async function pollAnswer(parts: PollParts, context: PollContext, definition: PollSource): Promise<void> {
  const { database } = parts
  const { lease, source, secrets, signal } = context
  const everySeconds = everySecondsOf(definition)
  const kept = source.taken ? await readState(database, source.no) : null
  const { etag } = kept === null ? { etag: undefined } : (JSON.parse(kept.toString('utf8')) as { etag?: string })
  const address = { url: secrets.url ?? '', headers: secrets.headers ?? {}, ca: definition.ca }
  const answer = await poll(address, { ...parts, etag, signal })
  if (answer.is === 'same') {
    await database.transact(async (tx) => {
      await requireLease(tx, lease)
      await endPoll(tx, lease, { everySeconds, leftOut: source.leftOut ?? undefined })
    })
    return
  }
  const state = Buffer.from(JSON.stringify({ etag: answer.etag }))
  const store = async (reader: SourceReader) => {
    const { snapshot } = await reader.snapshot()
    const whole = definition.watch && ((rows: readonly Row[]) => reader.rows(rows, {}))
    await storeChanges(database, context, snapshot, {}, whole, (tx) => keepState(tx, source.no, state))
  }
  await parts.queries.withRows(source, definition, answer.text, store, signal)
}

async function pollSegment(parts: PollParts, context: PollContext, definition: SegmentSource): Promise<void> {
  const { source } = context
  const { people, version } = await segmentPeople(parts.database, source, definition, tableLimits.rows + 1)
  const snapshot = new TableSnapshot(['user'], ['segment'])
  for (const user of people) snapshot.see({ user, segment: definition.segment })
  // Another rule is another segment: who is in it by that is no news.
  await storeChanges(
    parts.database,
    context,
    new OwnSnapshot(snapshot),
    { [definition.segment]: `version ${version}` },
    undefined,
  )
}
