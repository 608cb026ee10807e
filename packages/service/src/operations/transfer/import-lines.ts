import { setImmediate } from 'node:timers/promises'
import { deviceLine, faultsIn, type Imported, type Transferable, topicLine, userLine } from '@zbell/contract'
import { attributeOfText } from '@zbell/core'
import type { z } from 'zod'
import { attributeColumn, attributeOfColumn } from '../../api/index.ts'
import type { Database, Scope } from '../../database/index.ts'
import { importDevices } from '../../devices/index.ts'
import { importTopics, importUsers, listAttributes } from '../../people/index.ts'
import type { Line } from './lines.ts'

/** Lines that go into one transaction. */
const batchSize = 500
/** Fewer of them, when they say much: so many values at most. */
const valuesTogether = 3_000
const faultsShown = 1_000
/** So much is said of a line. */
const maxSaid = 500
const betweenTurns = 10

type Fault = { readonly line: number; readonly says: string }
export type Numbered<T> = { readonly line: number; readonly value: T }

/**
 * Takes a file in, in parts: what is wrong with a line is said of that line, and the others go in.
 * @param lines read as they are wanted, so that memory holds one part
 */
export async function importLines(
  database: Database,
  scope: Scope,
  what: Transferable,
  lines: AsyncGenerator<Line>,
): Promise<Imported> {
  const faults: Fault[] = []
  let [taken, refused] = [0, 0]
  const refuse = (fault: Fault) => {
    refused++
    if (faults.length < faultsShown) faults.push(fault)
  }
  const takers = {
    devices: taker(deviceLine, (rows: readonly Numbered<z.output<typeof deviceLine>>[]) =>
      importDevices(database, scope, rows),
    ),
    users: taker(userLine, (rows: readonly Numbered<z.output<typeof userLine>>[]) =>
      importUsers(database, scope, rows),
    ),
    topics: taker(topicLine, (rows: readonly Numbered<z.output<typeof topicLine>>[]) =>
      importTopics(database, scope, rows),
    ),
  }
  const { read: readLine, store } = takers[what]
  let values = 0
  const rows: Numbered<never>[] = []
  // What is wrong by itself waits for what is found out with the others of its part: faults are told in the order of lines.
  const unread: Fault[] = []
  const flush = async () => {
    const bad = rows.length === 0 ? [] : await store(rows as never)
    taken += rows.length - bad.length
    for (const fault of [...unread, ...bad].sort((a, b) => a.line - b.line)) refuse(fault)
    unread.length = 0
    rows.length = 0
    values = 0
  }
  const declared = what === 'users' ? await listAttributes(database, scope) : []
  const texts = new Set(declared.flatMap(({ name, type }) => (type === 'text' ? [name] : [])))
  let read = 0
  for await (const one of lines) {
    // What comes in at once is not dealt with at once: others are served in between.
    if (++read % betweenTurns === 0) await setImmediate()
    const found = 'says' in one ? one.says : readLine(fromCells(what, one.value, texts), one.value)
    if (typeof found === 'string') unread.push({ line: one.line, says: found })
    else {
      rows.push({ line: one.line, value: found as never })
      values += 'attributes' in found ? Object.keys(found.attributes).length : 1
    }
    if (rows.length + unread.length >= batchSize || values >= valuesTogether) await flush()
  }
  await flush()
  return { taken, refused, faults }
}

function taker<T extends z.ZodType>(
  schema: T,
  store: (rows: readonly Numbered<z.output<T>>[]) => Promise<readonly Fault[]>,
) {
  return {
    store,
    /** @param line as it stands in the file @returns what is wrong with it, all of it, by the names that stand there */
    read(value: unknown, line: unknown): z.output<T> | string {
      const found = schema.safeParse(value)
      if (found.success) return found.data
      const said = faultsIn(found.error, value).map(({ pointer, detail }) => `${nameIn(line, pointer)} ${detail}`)
      return [...new Set(said)].join('; ').slice(0, maxSaid)
    },
  }
}

/** What a place is called in the file: in CSV by its column, elsewhere by the way to it. */
function nameIn(line: unknown, pointer: string): string {
  const [first, second, ...rest] = pointer.split('/').slice(1)
  if (first === undefined) return 'the line'
  const stands = (name: string) => typeof line === 'object' && line !== null && Object.hasOwn(line, name)
  if (first === 'attributes' && second !== undefined && !stands('attributes')) return attributeColumn(second)
  const isCell = stands(first) && typeof (line as Record<string, unknown>)[first] === 'string'
  return isCell ? first : [first, second, ...rest].filter((step) => step !== undefined).join('.')
}

/**
 * CSV knows only text: cells become what their column wants.
 * @param texts attributes that were declared as texts, whatever a cell looks like
 */
function fromCells(what: Transferable, value: unknown, texts: ReadonlySet<string>): unknown {
  if (typeof value !== 'object' || value === null) return value
  const { muted, ...rest } = value as Record<string, unknown>
  if (what === 'devices')
    return muted === undefined ? rest : { ...rest, muted: muted === 'true' || (muted === 'false' ? false : muted) }
  if (what === 'topics' || 'attributes' in rest) return value
  const { user, topics, devices: _devices, createdAt: _createdAt, ...cells } = value as Record<string, unknown>
  if (!Object.values(cells).every((cell) => typeof cell === 'string')) return value
  const attributes = Object.fromEntries(
    Object.entries(cells).map(([column, cell]) => {
      const name = attributeOfColumn(column)
      return [name, texts.has(name) ? cell : attributeOfText(String(cell))]
    }),
  )
  return { user, attributes, ...(typeof topics === 'string' ? { topics: topics.split(' ') } : {}) }
}
