import type { ChildProcess } from 'node:child_process'
import type { CursorValue, Row } from '@zbell/core/triggers'
import { spawnBounded } from '../evaluation/index.ts'
import type { ReaderReach } from './connect.ts'
import { SourceFault } from './fault.ts'
import { digestBytes, type PagedSnapshot } from './paged-snapshot.ts'
import type { CallName, ReaderAnswer, ReaderCalls, ReaderMessage, ReadFrom } from './reader-calls.ts'
import { readerProgram } from './reader-program.ts'
import type { ColumnTypes, Place } from './table-reader.ts'

const memoryMb = 256
/** Apps that read at a time; each has a process. */
const maxProcesses = 12
const startWithinMs = 20_000
/** A process that does not let go of a session within so long is stopped. */
const closeWithinMs = 2_000
/** Whole rows can be large: this process takes so many at a time. */
const rowsInMessage = 200
/** Idle processes end after so long; connections that they kept, before. */
const idleMs = 90_000

const outOfBounds = new SourceFault(
  'was given up, since reading it took more memory or time than it may: read fewer rows or columns, or by a cursor',
)

type Pending = { resolve(output: never): void; reject(error: Error): void }

/** A process that reads for one app at a time. */
class ReaderProcess {
  readonly #child: ChildProcess
  readonly #pending = new Map<number, Pending>()
  readonly #ready: Promise<void>
  readonly #onEnd: () => void
  #calls = 0
  /** Sources whose connections it may have kept. */
  readonly sources = new Set<number>()
  appNo: number | undefined
  sessions = 0
  usedMs = performance.now()

  constructor(onEnd: () => void) {
    this.#onEnd = onEnd
    this.#child = spawnBounded(readerProgram, { memoryMb, serialization: 'advanced' })
    this.#ready = new Promise((done, fail) => {
      const timer = setTimeout(() => this.stop(), startWithinMs)
      this.#child.once('message', () => {
        clearTimeout(timer)
        done()
      })
      const onGone = () => {
        clearTimeout(timer)
        fail(new SourceFault('could not be read, since no process could be started for it; it is tried again soon'))
        this.#end()
      }
      this.#child.once('exit', onGone)
      this.#child.once('error', onGone)
    })
    this.#ready.catch(() => {}) // Whoever calls hears it.
    this.#child.on('message', (answer: ReaderAnswer) => this.#take(answer))
  }

  #end(): void {
    for (const { reject } of this.#pending.values()) reject(outOfBounds)
    this.#pending.clear()
    this.#onEnd()
  }

  #take(answer: ReaderAnswer): void {
    if (answer.is === 'ready') return
    const pending = this.#pending.get(answer.no)
    this.#pending.delete(answer.no)
    if (answer.is === 'done') pending?.resolve(answer.output as never)
    else if (answer.is === 'fault') pending?.reject(new SourceFault(answer.says))
    else pending?.reject(new Error(`a reader failed: ${answer.stack}`))
  }

  /** @throws {SourceFault} */
  async call<Name extends CallName>(
    session: number,
    name: Name,
    input: ReaderCalls[Name]['input'],
  ): Promise<ReaderCalls[Name]['output']> {
    await this.#ready
    const no = ++this.#calls
    const message: ReaderMessage = { no, session, name, input }
    return new Promise((resolve, reject) => {
      this.#pending.set(no, { resolve, reject })
      this.#child.send(message, (error) => {
        if (error) reject(outOfBounds)
      })
    })
  }

  stop(): void {
    this.#child.kill('SIGKILL')
  }
}

/** A session in a reader process: what {@link TableReader} and {@link AnswerReader} do is done there. */
export class SourceReader {
  readonly #call: <Name extends CallName>(
    name: Name,
    input: ReaderCalls[Name]['input'],
  ) => Promise<ReaderCalls[Name]['output']>

  constructor(process: ReaderProcess, session: number) {
    this.#call = (name, input) => process.call(session, name, input)
  }

  /** Reads rows whole; they stay in the process. @throws {SourceFault} as all that follow */
  async snapshot(): Promise<{ readonly snapshot: PagedSnapshot; readonly types: ColumnTypes }> {
    const { rows, leftOut, digests, emptyPages, types } = await this.#call('snapshot', undefined)
    const empty = new Set(emptyPages)
    const snapshot: PagedSnapshot = {
      rows,
      leftOut,
      digestOf: (page) => ({
        digest: Buffer.from(digests.subarray(page * digestBytes, (page + 1) * digestBytes)),
        isEmpty: empty.has(page),
      }),
      changesOf: async (page, stored) => {
        const { changes, packed } = await this.#call('changes', { page, stored })
        return { changes, packed: Buffer.from(packed) }
      },
    }
    return { snapshot, types }
  }

  async rows(rows: readonly Row[], types: ColumnTypes): Promise<ReadonlyMap<string, Row>> {
    const found = new Map<string, Row>()
    for (let at = 0; at < rows.length; at += rowsInMessage)
      for (const [key, row] of await this.#call('rows', { rows: rows.slice(at, at + rowsInMessage), types }))
        found.set(key, row)
    return found
  }

  last(): Promise<ReaderCalls['last']['output']> {
    return this.#call('last', undefined)
  }

  next(from: CursorValue | null, behind: Place | undefined, limit: number): Promise<ReaderCalls['next']['output']> {
    return this.#call('next', { from, behind, limit })
  }

  sample(): Promise<ReaderCalls['sample']['output']> {
    return this.#call('sample', undefined)
  }
}

/** Who reads, and what. */
export type ReaderSession = {
  readonly appNo: number
  readonly from: ReadFrom
  /** Ends the session at once. */
  readonly signal?: AbortSignal | undefined
}

/**
 * Processes that read databases and answers of others. Each reads for one app at a time: rows that fill its memory, or that take all its time to
 * parse, end or delay what that app reads, and nothing else.
 */
export class ReaderPool {
  readonly #reach: ReaderReach
  readonly #processes = new Set<ReaderProcess>()
  /** Who waits for a process, in order. */
  readonly #waiting: (() => void)[] = []
  #sessions = 0
  #isClosed = false

  constructor(reach: ReaderReach) {
    this.#reach = reach
  }

  /**
   * Works with what is read; the connection to a database is kept, or hung up, when that goes well, and broken off when it does not.
   * @throws {SourceFault}
   */
  async read<T>({ appNo, from, signal }: ReaderSession, work: (reader: SourceReader) => Promise<T>): Promise<T> {
    signal?.throwIfAborted()
    const sourceNo = from.is === 'database' ? from.sourceNo : undefined
    const reading = await this.#processFor(appNo, sourceNo)
    const session = ++this.#sessions
    const breakOff = () => void this.#close(reading, session, false)
    signal?.addEventListener('abort', breakOff, { once: true })
    try {
      await reading.call(session, 'open', { from, reach: this.#reach })
      const result = await work(new SourceReader(reading, session))
      await reading.call(session, 'close', { keep: true })
      return result
    } catch (error) {
      await this.#close(reading, session, false)
      throw error
    } finally {
      signal?.removeEventListener('abort', breakOff)
      this.#release(reading)
    }
  }

  async #processFor(appNo: number, sourceNo: number | undefined): Promise<ReaderProcess> {
    for (;;) {
      if (this.#isClosed) throw new SourceFault('was not read: the service is stopping')
      const all = [...this.#processes]
      const idle = all.filter(({ sessions }) => sessions === 0)
      const found =
        all.find((one) => one.appNo === appNo) ??
        idle.find(({ sources }) => sourceNo !== undefined && sources.has(sourceNo)) ??
        idle[0] ??
        (all.length < maxProcesses ? this.#start() : undefined)
      if (found) {
        found.appNo = appNo
        found.sessions++
        if (sourceNo !== undefined) found.sources.add(sourceNo)
        return found
      }
      await new Promise<void>((done) => this.#waiting.push(done))
    }
  }

  #start(): ReaderProcess {
    const started: ReaderProcess = new ReaderProcess(() => {
      this.#processes.delete(started)
      this.#waiting.shift()?.()
    })
    this.#processes.add(started)
    return started
  }

  #release(reading: ReaderProcess): void {
    reading.usedMs = performance.now()
    if (--reading.sessions > 0) return
    reading.appNo = undefined
    this.#waiting.shift()?.()
  }

  /** A process that is too busy to hear it is stopped. */
  async #close(reading: ReaderProcess, session: number, keep: boolean): Promise<void> {
    const closing = reading.call(session, 'close', { keep }).catch(() => {})
    const timer = setTimeout(() => reading.stop(), closeWithinMs)
    await closing
    clearTimeout(timer)
  }

  /** Ends processes that nobody has used for a while. */
  endIdle(): void {
    const now = performance.now()
    for (const one of this.#processes) if (one.sessions === 0 && now - one.usedMs > idleMs) one.stop()
  }

  close(): void {
    this.#isClosed = true
    for (const one of this.#processes) one.stop()
    for (const done of this.#waiting.splice(0)) done()
  }
}
