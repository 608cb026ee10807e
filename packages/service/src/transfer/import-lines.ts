import { setImmediate } from 'node:timers/promises'
import { deviceLine, type Imported, type Transferable, topicLine, userLine } from '@zbell/contract'
import { attributeOfText } from '@zbell/core'
import type { z } from 'zod'
import type { Scope } from '../store/apps/apps.ts'
import type { Database } from '../store/database.ts'
import { importDevices } from '../store/devices/import-devices.ts'
import { listAttributes } from '../store/people/attributes.ts'
import { importTopics } from '../store/people/import-topics.ts'
import { importUsers } from '../store/people/import-users.ts'
import { attributeOfColumn } from './attribute-columns.ts'
import type { Line } from './lines.ts'

/** Lines that go into one transaction. */
const together = 500
/** Fewer of them, when they say much: so many values at most. */
const valuesTogether = 3_000
const faultsShown = 1_000
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
  const flush = async (rows: Numbered<never>[]) => {
    if (rows.length === 0) return
    const bad = await store(rows as never)
    bad.forEach(refuse)
    taken += rows.length - bad.length
    rows.length = 0
    values = 0
  }
  const declared = what === 'users' ? await listAttributes(database, scope) : []
  const texts = new Set(declared.flatMap(({ name, type }) => (type === 'text' ? [name] : [])))
  const rows: Numbered<never>[] = []
  let read = 0
  for await (const one of lines) {
    // What comes in at once is not dealt with at once: others are served in between.
    if (++read % betweenTurns === 0) await setImmediate()
    if ('says' in one) {
      refuse(one)
      continue
    }
    const found = readLine(fromCells(what, one.value, texts))
    if (typeof found === 'string') refuse({ line: one.line, says: found })
    else {
      rows.push({ line: one.line, value: found as never })
      values += 'attributes' in found ? Object.keys(found.attributes).length : 1
    }
    if (rows.length >= together || values >= valuesTogether) await flush(rows)
  }
  await flush(rows)
  return { taken, refused, faults }
}

function taker<T extends z.ZodType>(
  schema: T,
  store: (rows: readonly Numbered<z.output<T>>[]) => Promise<readonly Fault[]>,
) {
  return {
    store,
    read(value: unknown): z.output<T> | string {
      const found = schema.safeParse(value)
      if (found.success) return found.data
      const [issue] = found.error.issues
      return `${issue?.path.join('.') || 'the line'} ${issue?.message.slice(0, 200)}`
    },
  }
}

/**
 * CSV knows only text: cells become what their column wants.
 * @param texts attributes that were declared as texts, whatever a cell looks like
 */
function fromCells(what: Transferable, value: unknown, texts: ReadonlySet<string>): unknown {
  if (typeof value !== 'object' || value === null) return value
  const { muted, ...rest } = value as Record<string, unknown>
  if (what === 'devices') return muted === undefined ? rest : { ...rest, muted: muted === true || muted === 'true' }
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
