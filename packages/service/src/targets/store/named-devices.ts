import { createHash } from 'node:crypto'
import { deliveryStates, parseTarget, platforms, type Reference, reasons, type Target } from '@zbell/core'
import { RuleRefused } from '@zbell/core/rules'
import { type SQL, sql } from 'drizzle-orm'
import { anyOf, type Reader, uuidBuffer, type Where } from '../../database/index.ts'
import { type RuleSearch, readyRule, ruleCondition, searchRule, segmentStore } from '../../segments/index.ts'

/** What references name, by number: the union of all. What is not there names nobody. */
export type Named = {
  readonly everyone: boolean
  readonly users: readonly number[]
  /** Named by their id or their token. */
  readonly devices: readonly number[]
  readonly topics: readonly number[]
  readonly reached: readonly number[]
  /** Rules, as conditions on a device `v` that are true or false. */
  readonly rules: readonly Rule[]
}

/** A rule as it is asked of the devices of an app, and where those are found that it has. */
type Rule = { readonly condition: SQL; readonly search: RuleSearch; readonly where: Where }

const tokenHash = (token: string): Buffer => createHash('sha256').update(token).digest()

/** The references of a target, by number. */
export type NamedTarget = { readonly any: Named; readonly all: readonly Named[]; readonly none: Named }

/** Finds what a target's references name: each kind by one question for all parts of the target. */
export async function nameAll(tx: Reader, target: Target, { appNo, environment }: Where): Promise<NamedTarget> {
  const { any, all, none } = parseTarget(target)
  const every = [...any, ...all, ...none]
  const where = { appNo, environment }
  const find = async (
    names: readonly string[],
    query: (keys: readonly unknown[]) => SQL,
    keyOf: (name: string) => unknown = (name) => name,
  ) => {
    const distinct = [...new Set(names)]
    if (distinct.length === 0) return new Map<string, number>()
    const rows = await tx.rows<{ no: number; name: Buffer | string }>(query(distinct.map(keyOf)))
    const found = new Map(rows.map(({ no, name }) => [String(name), no]))
    return new Map(
      distinct.flatMap((name) => (found.has(plain(keyOf(name))) ? [[name, found.get(plain(keyOf(name)))!]] : [])),
    )
  }
  const [users, topics, devices, tokens, reached, segments, own] = await Promise.all([
    find(
      every.flatMap((one) => (one.is === 'user' ? [one.user] : [])),
      (names) =>
        sql`select no, name from users where app_no = ${appNo} and environment = ${environment} and name in ${names}`,
    ),
    find(
      every.flatMap((one) => (one.is === 'topic' ? [one.topic] : [])),
      (names) =>
        sql`select no, name from topics where app_no = ${appNo} and environment = ${environment} and name in ${names}`,
    ),
    find(
      every.flatMap((one) => (one.is === 'device' ? [one.device] : [])),
      (ids) =>
        sql`select no, lower(hex(id)) as name from devices
            where app_no = ${appNo} and environment = ${environment} and id in ${ids}`,
      uuidBuffer,
    ),
    find(
      every.flatMap((one) => (one.is === 'token' ? [one.token] : [])),
      (hashes) =>
        sql`select no, lower(hex(token_hash)) as name from devices where app_no = ${appNo} and environment = ${environment}
            and platform in ('ios', 'android', 'web') and token_hash in ${hashes}`,
      tokenHash,
    ),
    find(
      every.flatMap((one) => (one.is === 'reached' ? [one.notification] : [])),
      (ids) =>
        sql`select no, lower(hex(id)) as name from notifications
            where app_no = ${appNo} and environment = ${environment} and id in ${ids}`,
      uuidBuffer,
    ),
    segmentRules(tx, where, every),
    target.rule === undefined ? undefined : readRule(tx, where, target.rule),
  ])
  const named = (own: readonly Reference[]): Named => {
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
      rules: own.flatMap((one) => (one.is === 'segment' ? [segments.get(one) ?? hasNobody(where)] : [])),
    }
  }
  const whole = own === undefined ? [] : [{ ...named([]), rules: [own] }]
  return { any: named(any), all: [...all.map((one) => named([one])), ...whole], none: named(none) }
}

/**
 * A rule as it is asked about at this moment: what is neither yes nor no is no. It was good when it was taken in; where it
 * cannot be asked any more, since a segment that it names has changed, it has nobody, and whoever counts it is told why.
 */
async function readRule(tx: Reader, where: Where, rule: string): Promise<Rule> {
  try {
    const { term, context } = await readyRule(tx, where, rule, Date.now())
    const condition = sql`coalesce(${ruleCondition(term, context)}, false)`
    return { condition, search: await searchRule(tx, term, context), where }
  } catch (error) {
    if (!(error instanceof RuleRefused)) throw error
    return hasNobody(where)
  }
}

const hasNobody = (where: Where): Rule => ({
  condition: sql`false`,
  search: { places: [], entries: 0 },
  where,
})

/** The rules of the segments that are named; one that is not there has nobody. */
async function segmentRules(tx: Reader, where: Where, references: readonly Reference[]): Promise<Map<Reference, Rule>> {
  const found = new Map<Reference, Rule>()
  for (const one of references) {
    if (one.is !== 'segment') continue
    const row = await segmentStore.find(tx, where, one.segment, one.version)
    if (row) found.set(one, await readRule(tx, where, row.rule))
  }
  return found
}

const plain = (key: unknown): string => (Buffer.isBuffer(key) ? key.toString('hex') : String(key))

/** A delivery that reached its device; what was taken back has gone there, too. */
const reachedIt = sql`(r.state < ${deliveryStates.skipped} or r.reason = ${reasons['taken-back'].code})`

/**
 * Looked up for each device by itself. An `exists` the server may turn about: it then puts all members aside first, also where
 * only a few devices are looked at.
 */
const has = (rows: SQL): SQL => sql`((select 1 from ${rows} limit 1) is not null)`

/** So many topics are looked through one by one, which is quicker; more of them together. */
const oneByOne = 4

/**
 * Members of topics, or of what a notification reached, as tables `m`: of each by itself, or of many together.
 * @param column what of a row `r` makes the table @param rows a table `r` and its owner's column @param condition on `r`
 */
function membersIn(column: SQL, rows: { table: SQL; owner: SQL }, nos: readonly number[], condition = sql``): SQL[] {
  const { table, owner } = rows
  if (nos.length <= oneByOne)
    return nos.map((no) => sql`(select ${column} from ${table} r where ${owner} = ${no} ${condition}) m`)
  return [sql`(select distinct ${column} from ${table} r where ${owner} in ${nos} ${condition}) m`]
}

const byDevice = (members: SQL): Source => ({
  tables: sql`${members} straight_join devices v on v.no = m.device_no`,
  where: sql`true`,
})

/** The kinds of reference, each as a condition on a device `v` and as places where the devices that fulfil it are found. */
const kinds = {
  devices: {
    condition: (nos: readonly number[]): SQL => sql`v.no in ${nos}`,
    sources: (nos: readonly number[]): Source[] => [{ tables: sql`devices v`, where: sql`v.no in ${nos}` }],
  },
  users: {
    condition: (nos: readonly number[]): SQL => sql`coalesce(v.user_no, 0) in ${nos}`,
    sources: (nos: readonly number[]): Source[] => [
      { tables: sql`devices v force index (by_user)`, where: sql`v.user_no in ${nos}` },
    ],
  },
  topics: {
    condition: (nos: readonly number[]): SQL =>
      sql`(${has(sql`topic_devices t where t.topic_no in ${nos} and t.device_no = v.no`)}
        or ${has(sql`topic_users t where t.topic_no in ${nos} and t.user_no = v.user_no`)})`,
    sources: (nos: readonly number[]): Source[] => [
      ...membersIn(sql`r.device_no`, { table: sql`topic_devices`, owner: sql`r.topic_no` }, nos).map(byDevice),
      ...membersIn(sql`r.user_no`, { table: sql`topic_users`, owner: sql`r.topic_no` }, nos).map((members) => ({
        tables: sql`${members} straight_join devices v force index (by_user) on v.user_no = m.user_no`,
        where: sql`true`,
      })),
    ],
  },
  reached: {
    condition: (nos: readonly number[]): SQL =>
      has(sql`deliveries r where r.notification_no in ${nos} and r.device_no = v.no and ${reachedIt}`),
    sources: (nos: readonly number[]): Source[] =>
      membersIn(
        sql`r.device_no`,
        { table: sql`deliveries`, owner: sql`r.notification_no` },
        nos,
        sql`and ${reachedIt}`,
      ).map(byDevice),
  },
  rules: {
    condition: (rules: readonly Rule[]): SQL => anyOf(rules.map(({ condition }) => condition)),
    sources: (rules: readonly Rule[]): Source[] =>
      rules.every(({ search }) => search.entries !== undefined)
        ? rules.flatMap(({ search }) => search.places)
        : platforms.map((platform) => ({
            tables: sql`devices v force index (by_platform)`,
            where: sql`v.app_no = ${rules[0]!.where.appNo} and v.environment = ${rules[0]!.where.environment}
          and v.platform = ${platform} and ${anyOf(rules.map(({ condition }) => condition))}`,
          })),
  },
} as const
const kindNames = ['devices', 'users', 'topics', 'reached', 'rules'] as const

/** Devices `v` as they are found in these tables. */
export type Source = { readonly tables: SQL; readonly where: SQL }

/** Whether a device `v` is one of these. */
export const isNamed = (named: Named): SQL => (named.everyone ? sql`true` : (isOneOf(named) ?? sql`false`))

/** @returns undefined where nobody is named */
function isOneOf(named: Named): SQL | undefined {
  const conditions = kindNames.flatMap((kind) =>
    named[kind].length === 0 ? [] : [kinds[kind].condition(named[kind] as never)],
  )
  return conditions.length === 0 ? undefined : anyOf(conditions)
}

/**
 * Where the devices are found that these references name. One that is named twice is found twice: to leave it out would cost
 * each device a look, and whoever wants each once has only to put their numbers in order.
 */
export const sourcesOf = (named: Named): Source[] =>
  kindNames.flatMap((kind) => (named[kind].length === 0 ? [] : kinds[kind].sources(named[kind] as never)))

/** All but those that are named: joined to them and found nowhere, which costs half of a condition that is asked of each. */
export function without({ topics, ...few }: Named): { readonly joins: SQL; readonly conditions: readonly SQL[] } {
  const others = few.everyone ? sql`true` : isOneOf({ ...few, topics: [] })
  const conditions = others ? [sql`not ${others}`] : []
  if (topics.length === 0) return { joins: sql``, conditions }
  return {
    joins: sql`left join topic_devices xd on xd.topic_no in ${topics} and xd.device_no = v.no
      left join topic_users xu on xu.topic_no in ${topics} and xu.user_no = v.user_no`,
    conditions: [...conditions, sql`xd.device_no is null`, sql`xu.user_no is null`],
  }
}
