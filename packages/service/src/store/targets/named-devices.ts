import { createHash } from 'node:crypto'
import { deliveryStates, parseReference, type Reference, reasons, type Target } from '@zbell/core'
import type { Scope } from '../apps/apps.ts'
import { uuidBuffer } from '../columns.ts'
import type { Reader } from '../database.ts'

export type Where = { readonly appNo: number; readonly environment: Scope['environment'] }
export type Part = { readonly sql: string; readonly values: readonly unknown[] }

/** What references name, by number: the union of all. What is not there names nobody. */
export type Named = {
  readonly everyone: boolean
  readonly users: readonly number[]
  /** Named by their id or their token. */
  readonly devices: readonly number[]
  readonly topics: readonly number[]
  readonly reached: readonly number[]
}

const tokenHash = (token: string): Buffer => createHash('sha256').update(token).digest()

const readReferences = (texts: readonly string[]): Reference[] =>
  texts.map(parseReference).filter((one): one is Reference => typeof one !== 'string')

/** The references of a target, by number. */
export type NamedTarget = { readonly any: Named; readonly all: readonly Named[]; readonly none: Named }

/** Finds what a target's references name: each kind by one question for all parts of the target. */
export async function nameAll(
  tx: Reader,
  { any = [], all = [], none = [] }: Target,
  { appNo, environment }: Where,
): Promise<NamedTarget> {
  const every = readReferences([...any, ...all, ...none])
  const find = async (names: readonly string[], sql: string, keyOf: (name: string) => unknown = (name) => name) => {
    const distinct = [...new Set(names)]
    if (distinct.length === 0) return new Map<string, number>()
    const rows = await tx.rows<{ no: number; name: Buffer | string }>(sql, [appNo, environment, distinct.map(keyOf)])
    const found = new Map(rows.map(({ no, name }) => [String(name), no]))
    return new Map(
      distinct.flatMap((name) => (found.has(plain(keyOf(name))) ? [[name, found.get(plain(keyOf(name)))!]] : [])),
    )
  }
  const [users, topics, devices, tokens, reached] = await Promise.all([
    find(
      every.flatMap((one) => (one.is === 'user' ? [one.user] : [])),
      'select no, name from users where app_no = ? and environment = ? and name in (?)',
    ),
    find(
      every.flatMap((one) => (one.is === 'topic' ? [one.topic] : [])),
      'select no, name from topics where app_no = ? and environment = ? and name in (?)',
    ),
    find(
      every.flatMap((one) => (one.is === 'device' ? [one.device] : [])),
      'select no, lower(hex(id)) as name from devices where app_no = ? and environment = ? and id in (?)',
      uuidBuffer,
    ),
    find(
      every.flatMap((one) => (one.is === 'token' ? [one.token] : [])),
      `select no, lower(hex(token_hash)) as name from devices
       where app_no = ? and environment = ? and platform in ('ios', 'android', 'web') and token_hash in (?)`,
      tokenHash,
    ),
    find(
      every.flatMap((one) => (one.is === 'reached' ? [one.notification] : [])),
      'select no, lower(hex(id)) as name from notifications where app_no = ? and environment = ? and id in (?)',
      uuidBuffer,
    ),
  ])
  const named = (texts: readonly string[]): Named => {
    const own = readReferences(texts)
    const numbers = (pick: (one: Reference) => number | undefined) => [
      ...new Set(own.flatMap((one) => pick(one) ?? [])),
    ]
    return {
      everyone: own.some(({ is }) => is === 'everyone'),
      users: numbers((one) => (one.is === 'user' ? users.get(one.user) : undefined)),
      devices: numbers((one) =>
        one.is === 'device' ? devices.get(one.device) : one.is === 'token' ? tokens.get(one.token) : undefined,
      ),
      topics: numbers((one) => (one.is === 'topic' ? topics.get(one.topic) : undefined)),
      reached: numbers((one) => (one.is === 'reached' ? reached.get(one.notification) : undefined)),
    }
  }
  return { any: named(any), all: all.map((text) => named([text])), none: named(none) }
}

const plain = (key: unknown): string => (Buffer.isBuffer(key) ? key.toString('hex') : String(key))

/** A delivery that reached its device; what was taken back has gone there, too. */
const reachedIt = `(r.state < ${deliveryStates.skipped} or r.reason = ${reasons['taken-back'].code})`
const list = (numbers: readonly number[]): string => numbers.join(',')

/**
 * Looked up for each device by itself. An `exists` the server may turn about: it then puts all members aside first, also where
 * only a few devices are looked at.
 */
const has = (rows: string): string => `((select 1 from ${rows} limit 1) is not null)`

/** So many topics are looked through one by one, which is quicker; more of them together. */
const oneByOne = 4

/**
 * Members of topics, or of what a notification reached, as tables `m`: of each by itself, or of many together.
 * @param condition on rows `r`
 */
function membersIn(table: string, member: string, owner: string, nos: readonly number[], condition = ''): string[] {
  if (nos.length <= oneByOne)
    return nos.map((no) => `(select r.${member} from ${table} r where r.${owner} = ${no} ${condition}) m`)
  return [`(select distinct r.${member} from ${table} r where r.${owner} in (${list(nos)}) ${condition}) m`]
}

const byDevice = (members: string): Source => ({
  tables: `${members} straight_join devices v on v.no = m.device_no`,
  where: 'true',
})

/** The kinds of reference, each as a condition on a device `v` and as places where the devices that fulfil it are found. */
const kinds = {
  devices: {
    condition: (nos: readonly number[]) => `v.no in (${list(nos)})`,
    sources: (nos: readonly number[]): Source[] => [{ tables: 'devices v', where: `v.no in (${list(nos)})` }],
  },
  users: {
    condition: (nos: readonly number[]) => `coalesce(v.user_no, 0) in (${list(nos)})`,
    sources: (nos: readonly number[]): Source[] => [
      { tables: 'devices v force index (by_user)', where: `v.user_no in (${list(nos)})` },
    ],
  },
  topics: {
    condition: (nos: readonly number[]) =>
      `(${has(`topic_devices t where t.topic_no in (${list(nos)}) and t.device_no = v.no`)}
        or ${has(`topic_users t where t.topic_no in (${list(nos)}) and t.user_no = v.user_no`)})`,
    sources: (nos: readonly number[]): Source[] => [
      ...membersIn('topic_devices', 'device_no', 'topic_no', nos).map(byDevice),
      ...membersIn('topic_users', 'user_no', 'topic_no', nos).map((members) => ({
        tables: `${members} straight_join devices v force index (by_user) on v.user_no = m.user_no`,
        where: 'true',
      })),
    ],
  },
  reached: {
    condition: (nos: readonly number[]) =>
      has(`deliveries r where r.notification_no in (${list(nos)}) and r.device_no = v.no and ${reachedIt}`),
    sources: (nos: readonly number[]): Source[] =>
      membersIn('deliveries', 'device_no', 'notification_no', nos, `and ${reachedIt}`).map(byDevice),
  },
} as const
const kindNames = ['devices', 'users', 'topics', 'reached'] as const

/** Devices `v` as they are found in these tables. */
export type Source = { readonly tables: string; readonly where: string }

/** Whether a device `v` is one of these. */
export function isNamed(named: Named): string {
  if (named.everyone) return 'true'
  const conditions = kindNames.flatMap((kind) => (named[kind].length === 0 ? [] : [kinds[kind].condition(named[kind])]))
  return conditions.length === 0 ? 'false' : `(${conditions.join(' or ')})`
}

/**
 * Where the devices are found that these references name. One that is named twice is found twice: to leave it out would cost
 * each device a look, and whoever wants each once has only to put their numbers in order.
 */
export const sourcesOf = (named: Named): Source[] =>
  kindNames.flatMap((kind) => (named[kind].length === 0 ? [] : kinds[kind].sources(named[kind])))

/** All but those that are named: joined to them and found nowhere, which costs half of a condition that is asked of each. */
export function without({ topics, ...few }: Named): { readonly joins: string; readonly conditions: readonly string[] } {
  const others = isNamed({ ...few, topics: [] })
  const conditions = others === 'false' ? [] : [`not ${others}`]
  if (topics.length === 0) return { joins: '', conditions }
  return {
    joins: `left join topic_devices xd on xd.topic_no in (${list(topics)}) and xd.device_no = v.no
      left join topic_users xu on xu.topic_no in (${list(topics)}) and xu.user_no = v.user_no`,
    conditions: [...conditions, 'xd.device_no is null', 'xu.user_no is null'],
  }
}
