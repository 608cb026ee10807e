import type { Database, Scope } from '../../database/index.ts'
import { declareTopic, ensureTopic, joinTopic, membersByName } from './topics.ts'

type Row = {
  readonly line: number
  readonly value: {
    readonly topic: string
    readonly title?: string | null | undefined
    readonly user?: string | null | undefined
    readonly device?: string | null | undefined
  }
}

/** Takes a part of a file in. @returns the lines that name somebody who is not here */
export async function importTopics(
  database: Database,
  scope: Scope,
  rows: readonly Row[],
): Promise<{ line: number; says: string }[]> {
  const faults: { line: number; says: string }[] = []
  const topics = new Map<string, Row[]>()
  for (const row of rows) {
    if (row.value.title !== undefined && row.value.title !== null)
      await declareTopic(database, scope, row.value.topic, row.value.title)
    topics.set(row.value.topic, [...(topics.get(row.value.topic) ?? []), row])
  }
  for (const [topic, own] of topics) {
    const all = <K extends 'user' | 'device'>(kind: K) => own.flatMap(({ value }) => value[kind] ?? [])
    const { users, devices, unknown } = await membersByName(database, scope, {
      users: all('user'),
      devices: all('device'),
    })
    const strangers = new Set(unknown)
    for (const { line, value } of own) {
      const named = [value.user && `user:${value.user}`, value.device && `device:${value.device}`]
      const unknown = named.filter((name) => name && strangers.has(name))
      if (unknown.length > 0)
        faults.push({ line, says: `${unknown.join(' and ')} ${unknown.length > 1 ? 'are' : 'is'} not here` })
    }
    await joinTopic(database, await ensureTopic(database, scope, topic), { users, devices })
  }
  return faults
}
