import type { Topic } from '@zbell/contract'
import { isTopicName } from '@zbell/core'
import { type Api, nameAtPlace, pageView, placeOfName, type RateLimits } from '../api/index.ts'
import { readSettings } from '../apps/index.ts'
import { Problem } from '../base/index.ts'
import type { Database, Scope } from '../database/index.ts'
import {
  changeOwnTopic,
  declareTopic,
  deleteTopic,
  ensureTopic,
  findTopic,
  hasCapacityForTopics,
  joinTopic,
  leaveTopic,
  listTopics,
  maxTopicsOfDevice,
  maxUndeclared,
  membersByName,
  type TopicRow,
  topicsOf,
} from './store/topics.ts'

/** So many that are not here are named in an answer. */
const unknownNamed = 100
/** So many join in one transaction, to keep it short. */
const batchSize = 2_000

export function serveTopics(api: Api, database: Database, limits: RateLimits, onChange: () => void): void {
  api.serve('listTopics', async ({ caller: { scope }, query: { limit, after } }) => {
    const rows = await listTopics(database, scope, limit + 1, nameAtPlace(after))
    return pageView(rows, limit, ({ name }) => placeOfName(name), topicView)
  })

  api.serve('declareTopic', async ({ caller: { scope }, params, body }) => {
    const name = requireName(params.topic)
    await declareTopic(database, scope, name, body.title)
    return topicView(await need(database, scope, name))
  })

  api.serve('deleteTopic', async ({ caller: { scope }, params }) => {
    await deleteTopic(database, (await need(database, scope, params.topic)).no)
    onChange()
    return undefined
  })

  api.serve('joinTopic', async ({ caller: { scope }, params, body }) => {
    const topicNo = await ensureTopic(database, scope, requireName(params.topic))
    const answer = await inParts(database, scope, body, (members) => joinTopic(database, topicNo, members))
    onChange()
    return answer
  })

  api.serve('leaveTopic', async ({ caller: { scope }, params, body }) => {
    const { no } = await need(database, scope, params.topic)
    const answer = await inParts(database, scope, body, (members) => leaveTopic(database, no, members))
    onChange()
    return answer
  })

  api.serve(
    'listOwnTopics',
    async ({ caller: { device } }) => ({ topics: (await topicsOf(database, device)).map(({ name }) => name) }),
    limits.deviceCalls,
  )

  api.serve(
    'joinOwnTopic',
    async ({ caller: { scope, device }, params }) => {
      const name = requireName(params.topic)
      const known = await findTopic(database, scope, name)
      if (!known?.declared && !(await readSettings(database, scope)).openTopics) throw new Problem('unknown-topic')
      if (!known && !(await hasCapacityForTopics(database, scope)))
        throw new Problem(
          'too-many-topics',
          `Devices have made ${maxUndeclared} topics here already; declare this one.`,
        )
      const no = known?.no ?? (await ensureTopic(database, scope, name))
      if (!(await changeOwnTopic(database, { no, name }, device, true)))
        throw new Problem('too-many-topics', `A device joins ${maxTopicsOfDevice} topics at most.`)
      onChange()
      return undefined
    },
    limits.deviceCalls,
  )

  api.serve(
    'leaveOwnTopic',
    async ({ caller: { scope, device }, params }) => {
      const topic = await need(database, scope, params.topic)
      await changeOwnTopic(database, topic, device, false)
      onChange()
      return undefined
    },
    limits.deviceCalls,
  )
}

function requireName(name: string): string {
  if (!isTopicName(name))
    throw new Problem('invalid-request', 'A topic has small letters, digits, hyphens and dots, 64 at most.', [
      { pointer: '', detail: 'is not a topic' },
    ])
  return name
}

async function need(database: Database, scope: Scope, name: string): Promise<TopicRow> {
  const topic = isTopicName(name) ? await findTopic(database, scope, name) : undefined
  if (!topic) throw new Problem('unknown-topic')
  return topic
}

type Members = { readonly users: readonly number[]; readonly devices: readonly number[] }

async function inParts(
  database: Database,
  scope: Scope,
  given: { readonly users: readonly string[]; readonly devices: readonly string[] },
  act: (members: Members) => Promise<number>,
): Promise<{ changed: number; unknown: string[] }> {
  const { users, devices, unknown } = await membersByName(database, scope, given)
  let changed = 0
  for (let at = 0; at < Math.max(users.length, devices.length); at += batchSize) {
    const part = { users: users.slice(at, at + batchSize), devices: devices.slice(at, at + batchSize) }
    changed += await act(part)
  }
  return { changed, unknown: unknown.slice(0, unknownNamed) }
}

const topicView = (row: TopicRow): Topic => ({
  topic: row.name,
  title: row.title,
  declared: row.declared,
  devices: row.devices,
  users: row.users,
  createdAt: row.createdAt.toISOString(),
})
