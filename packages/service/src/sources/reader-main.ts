// The program of a reader process: sessions with databases that are somebody else’s. What they send is read and parsed here only.
import { TableRefused, tableLimits } from '@zbell/core/triggers'
import { anywhere, publicOnly } from '../gateways/address-guard.ts'
import { connect } from './connect.ts'
import { SourceFault } from './fault.ts'
import { KeptConnections } from './kept-connections.ts'
import { OwnLook } from './paged-look.ts'
import type { CallName, ReaderAnswer, ReaderCalls, ReaderMessage } from './reader-calls.ts'
import type { SqlConnection } from './sql-connection.ts'
import { TableReader } from './table-reader.ts'

type Session = {
  readonly sourceNo: number | undefined
  readonly connection: SqlConnection
  readonly reader: TableReader
  look?: OwnLook
}

const sessions = new Map<number, Session>()
/** Sessions that are being opened, and whether they are not wanted any more. */
const opening = new Map<number, { isClosed: boolean }>()
const kept = new KeptConnections()
const dropIdleEveryMs = 5_000

type Call<Name extends CallName> = (
  session: Session,
  input: ReaderCalls[Name]['input'],
) => Promise<ReaderCalls[Name]['output']>

const calls: { readonly [Name in Exclude<CallName, 'open' | 'close'>]: Call<Name> } = {
  look: async (session) => {
    const { look, types } = await session.reader.look()
    const own = new OwnLook(look)
    session.look = own
    const pages = Array.from({ length: tableLimits.pages }, (_, page) => own.digestOf(page))
    return {
      rows: own.rows,
      leftOut: own.leftOut,
      types,
      digests: Buffer.concat(pages.map(({ digest }) => digest)),
      emptyPages: pages.flatMap(({ isEmpty }, page) => (isEmpty ? [page] : [])),
    }
  },
  changes: async ({ look }, { page, stored }) => lookOf(look).changesOf(page, stored && Buffer.from(stored)),
  rows: ({ reader }, { rows, types }) => reader.rows(rows, types),
  last: ({ reader }) => reader.last(),
  next: ({ reader }, { from, behind, limit }) => reader.next(from, behind, limit),
  sample: ({ reader }) => reader.sample(),
}

function lookOf(look: OwnLook | undefined): OwnLook {
  if (!look) throw new Error('nothing was looked at in this session')
  return look
}

async function open(no: number, { sourceNo, url, source, reach }: ReaderCalls['open']['input']): Promise<undefined> {
  const guarded = { ...reach, guard: reach.isGuarded ? publicOnly : anywhere }
  const state = { isClosed: false }
  opening.set(no, state)
  try {
    const connection =
      sourceNo === undefined
        ? await connect(url, { ...guarded, ca: source.ca })
        : await kept.ready(sourceNo, url, source, guarded)
    if (sourceNo === undefined) await connection.begin()
    sessions.set(no, { sourceNo, connection, reader: new TableReader(connection, source) })
  } finally {
    opening.delete(no)
  }
  if (state.isClosed) await close(no, { keep: false })
}

async function close(no: number, { keep }: ReaderCalls['close']['input']): Promise<undefined> {
  const state = opening.get(no)
  if (state) state.isClosed = true
  const session = sessions.get(no)
  if (!session) return
  sessions.delete(no)
  const { sourceNo, connection } = session
  if (keep && sourceNo !== undefined) await connection.end()
  else if (sourceNo !== undefined) kept.drop(sourceNo)
  else if (keep) connection.hangUp()
  else connection.destroy()
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
  const inUse = new Set([...sessions.values()].map(({ sourceNo }) => sourceNo))
  kept.dropIdle((no) => inUse.has(no))
}, dropIdleEveryMs).unref()
process.on('disconnect', () => process.exit())
process.on('message', (message: ReaderMessage) => void answerTo(message).then(send))
send({ is: 'ready' })
