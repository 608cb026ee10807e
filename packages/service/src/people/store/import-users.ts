import type { AttributeValue } from '@zbell/core'
import type { Database, Scope } from '../../database/index.ts'
import { ensureUsers } from '../../devices/index.ts'
import { changeManyAttributes } from './attributes.ts'
import { ensureTopic, joinTopic } from './topics.ts'

type Row = {
  readonly line: number
  readonly value: {
    readonly user: string
    readonly attributes: Readonly<Record<string, AttributeValue | null>>
    readonly topics: readonly string[]
  }
}

/** Takes a part of a file in. @returns the lines whose attributes were refused; of those nothing is stored but the name */
export async function importUsers(
  database: Database,
  scope: Scope,
  rows: readonly Row[],
): Promise<{ line: number; says: string }[]> {
  return database.transact(async (tx) => {
    const numbers = await ensureUsers(tx, scope, [...new Set(rows.map(({ value }) => value.user))])
    const entries = rows.map(({ value }) => ({ userNo: numbers.get(value.user)!, changes: value.attributes }))
    const refused = await changeManyAttributes(tx, scope, entries)
    const bad = new Set(refused.map(({ at }) => at))
    const members = new Map<string, number[]>()
    rows.forEach(({ value }, at) => {
      if (bad.has(at)) return
      for (const topic of value.topics) members.set(topic, [...(members.get(topic) ?? []), numbers.get(value.user)!])
    })
    for (const [topic, users] of members)
      await joinTopic(tx, await ensureTopic(tx, scope, topic), { users, devices: [] })
    return refused.map(({ at, error }) => ({ line: rows[at]!.line, says: error.message }))
  })
}
