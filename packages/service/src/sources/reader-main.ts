// The program of a reader process: sessions with databases and answers that are somebody else’s. What
// they send is parsed here only.
import { TableRefused, tableLimits } from '@zbell/core/triggers'
import { anywhere, publicOnly } from '../net/index.ts'
import { AnswerReader } from './answer-reader.ts'
import { connect, type ReaderReach } from './connect.ts'
import { SourceFault } from './fault.ts'
import { KeptConnections } from './kept-connections.ts'
import { OwnSnapshot } from './paged-snapshot.ts'
import type { CallName, ReaderAnswer, ReaderCalls, ReaderMessage, ReadFrom } from './reader-calls.ts'
import type { SqlConnection } from './sql-connection.ts'
import { TableReader } from './table-reader.ts'

type Session = {
  readonly reader: TableReader | AnswerReader
  /** Of a database. */
  readonly connected?: { readonly to: SqlConnection; readonly sourceNo: number | undefined }
  snapshot?: OwnSnapshot
}

const sessions = new Map<number, Session>()
/** Sessions that are being opened, and whether they are not wanted any more. */
const opening = new Map<number, { isClosed: boolean }>()
const kept = new KeptConnections()
const closeIdleEveryMs = 5_000

type Call<Name extends CallName> = (
  session: Session,
  input: ReaderCalls[Name]['input'],
) => Promise<ReaderCalls[Name]['output']>

const calls: { readonly [Name in Exclude<CallName, 'open' | 'close'>]: Call<Name> } = {
  snapshot: async (session) => {
    const { snapshot, types } = await session.reader.snapshot()
    const own = new OwnSnapshot(snapshot)
    session.snapshot = own
    const pages = Array.from({ length: tableLimits.pages }, (_, page) => own.digestOf(page))
    return {
      rows: own.rows,
      leftOut: own.leftOut,
      types,
      digests: Buffer.concat(pages.map(({ digest }) => digest)),
      emptyPages: pages.flatMap(({ isEmpty }, page) => (isEmpty ? [page] : [])),
    }
  },
  changes: async ({ snapshot }, { page, stored }) =>
    snapshotOf(snapshot).changesOf(page, stored && Buffer.from(stored)),
  rows: ({ reader }, { rows, types }) => reader.rows(rows, types),
  last: ({ reader }) => tableOf(reader).last(),
  next: ({ reader }, { from, behind, limit }) => tableOf(reader).next(from, behind, limit),
  sample: ({ reader }) => reader.sample(),
}

function tableOf(reader: Session['reader']): TableReader {
  if (!(reader instanceof TableReader)) throw new Error('an answer has no cursor')
  return reader
}

function snapshotOf(snapshot: OwnSnapshot | undefined): OwnSnapshot {
  if (!snapshot) throw new Error('nothing was looked up in this session')
  return snapshot
}

async function open(no: number, { from, reach }: ReaderCalls['open']['input']): Promise<undefined> {
  const state = { isClosed: false }
  opening.set(no, state)
  try {
    sessions.set(no, await sessionOf(from, reach))
  } finally {
    opening.delete(no)
  }
  if (state.isClosed) await close(no, { keep: false })
}

async function sessionOf(from: ReadFrom, { isGuarded, ...reach }: ReaderReach): Promise<Session> {
  if (from.is === 'answer') return { reader: new AnswerReader(from.source, from.json) }
  const { sourceNo, url, source } = from
  const guarded = { ...reach, guard: isGuarded ? publicOnly : anywhere }
  const to =
    sourceNo === undefined
      ? await connect(url, { ...guarded, ca: source.ca })
      : await kept.ready(sourceNo, url, source, guarded)
  if (sourceNo === undefined) await to.begin()
  return { reader: new TableReader(to, source), connected: { to, sourceNo } }
}

async function close(no: number, { keep }: ReaderCalls['close']['input']): Promise<undefined> {
  const state = opening.get(no)
  if (state) state.isClosed = true
  const connected = sessions.get(no)?.connected
  sessions.delete(no)
  if (!connected) return
  const { to, sourceNo } = connected
  if (keep && sourceNo !== undefined) await to.end()
  else if (sourceNo !== undefined) kept.drop(sourceNo)
  else if (keep) to.hangUp()
  else to.destroy()
}

async function outputOf({ session: no, name, input }: ReaderMessage): Promise<unknown> {
  if (name === 'open') return open(no, input as never)
  if (name === 'close') return close(no, input as never)
  const session = sessions.get(no)
  if (!session) throw new Error('there is no such session')
  return calls[name](session, input as never)
}

async function answerTo(message: ReaderMessage): Promise<ReaderAnswer> {
  const { no } = message
  try {
    return { is: 'done', no, output: await outputOf(message) }
  } catch (error) {
    if (error instanceof SourceFault || error instanceof TableRefused) return { is: 'fault', no, says: error.message }
    return { is: 'failed', no, stack: String((error as Error | null)?.stack ?? error) }
  }
}

const send = (answer: ReaderAnswer) => process.send?.(answer)

setInterval(() => {
  const inUse = new Set([...sessions.values()].map(({ connected }) => connected?.sourceNo))
  kept.closeIdle((no) => inUse.has(no))
}, closeIdleEveryMs).unref()
process.on('disconnect', () => process.exit())
process.on('message', (message: ReaderMessage) => void answerTo(message).then(send))
send({ is: 'ready' })
