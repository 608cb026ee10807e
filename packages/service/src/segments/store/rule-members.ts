import { type Platform, platforms, uuidFromBytes } from '@zbell/core'
import type { Term } from '@zbell/core/rules'
import { type SQL, sql } from 'drizzle-orm'
import type { Reader, Scope } from '../../database/index.ts'
import { isReachable } from './reachable.ts'
import type { RuleSearch } from './rule-search.ts'
import { type RuleContext, ruleCondition } from './rule-to-sql.ts'
import { rounded, sampler } from './sample.ts'

export type RuleMember = { readonly no: number; readonly user: string | null; readonly device: string }

/** How many a rule has. */
export type RuleCount = {
  readonly people: number
  readonly devices: number
  readonly reachable: number
  readonly perPlatform: Readonly<Record<Platform, number>>
}

const own = ({ app, environment }: Scope) =>
  sql`v.app_no = ${app.no} and v.environment = ${environment} and v.retired_at is null`

/**
 * Rules for which more entries of an index, or more devices, have to be looked at are estimated: from about so many people, more
 * of them where few fit.
 */
export const counting = { above: 250_000, walks: 50_000, people: 20_000, fewest: 800 }

/** Whether to count a rule exactly takes longer than somebody who writes it waits. */
export async function isLong(
  database: Reader,
  { app, environment }: Scope,
  { entries }: RuleSearch,
  how = counting,
): Promise<boolean> {
  if (entries !== undefined) return entries > how.above
  const [row] = await database.rows<{ some: number }>(
    sql`select count(*) as some from (select 1 from devices force index (by_platform)
        where app_no = ${app.no} and environment = ${environment} limit ${how.walks + 1}) walked`,
  )
  return (row?.some ?? 0) > how.walks
}

/** Counts the devices and the people that a rule has. */
export async function countRule(database: Reader, scope: Scope, { places }: RuleSearch): Promise<RuleCount> {
  const counts = await Promise.all(places.map((place) => countIn(database, devicesIn(place, scope))))
  return sumOf((of) => counts.reduce((sum, one) => sum + of(one), 0))
}

const devicesIn = ({ tables, where }: RuleSearch['places'][number], scope: Scope): SQL =>
  sql`from ${tables} left join users u on u.no = v.user_no where ${own(scope)} and ${where}`

/** Counts put together, each of their numbers in the same way. */
const sumOf = (together: (of: (count: RuleCount) => number) => number): RuleCount => ({
  people: together(({ people }) => people),
  devices: together(({ devices }) => devices),
  reachable: together(({ reachable }) => reachable),
  perPlatform: perPlatform((one) => together((count) => count.perPlatform[one])),
})

async function countIn(database: Reader, rows: SQL): Promise<RuleCount> {
  const found = await database.rows<{ platform: Platform | null; devices: number; reachable: string; people: number }>(
    sql`select v.platform, count(*) as devices, sum(${isReachable('show', null)}) as reachable,
          count(distinct if(u.named, v.user_no, null)) as people
        ${rows} group by v.platform with rollup`,
  )
  // The last row is about all of them.
  const all = found.find(({ platform }) => platform === null)
  return {
    people: all?.people ?? 0,
    devices: all?.devices ?? 0,
    reachable: Number(all?.reachable ?? 0),
    perPlatform: perPlatform((one) => found.find(({ platform }) => platform === one)?.devices ?? 0),
  }
}

const perPlatform = (of: (platform: Platform) => number) =>
  Object.fromEntries(platforms.map((one) => [one, of(one)])) as Record<Platform, number>

/** Counts what a rule has in a sample of the app's people. @returns undefined where a sample saves nothing */
export async function estimateRule(
  database: Reader,
  { app, environment }: Scope,
  term: Term,
  context: RuleContext,
  how = counting,
): Promise<RuleCount | undefined> {
  const draw = await sampler(database, { appNo: app.no, environment })
  const condition = sql`v.retired_at is null and ${ruleCondition(term, context)}`
  let last: RuleCount | undefined
  for (const wanted of [how.people, how.people * 3]) {
    const sample = draw(wanted)
    if (sample === undefined) return last
    const { some, others } = sample
    const nobodys = sql.join(
      others.rows.map((rows) => sql`select v.* ${rows} and ${condition}`),
      sql` union all `,
    )
    const [ofPeople, ofNobody] = await Promise.all([
      countIn(database, sql`${some.rows} and ${condition}`),
      countIn(database, sql`from (${nobodys}) v left join users u on false`),
    ])
    last = sumOf((of) => rounded(of(ofPeople) / some.share + of(ofNobody) / others.share))
    if (ofPeople.devices + ofNobody.devices >= how.fewest) break
  }
  return last
}

/** The devices that a rule has, oldest first. @param after the number of the last one before */
export async function ruleMembers(
  database: Reader,
  scope: Scope,
  { places }: RuleSearch,
  { limit, after = 0 }: { readonly limit: number; readonly after?: number | undefined },
): Promise<RuleMember[]> {
  const found = await Promise.all(
    places.map((place) =>
      membersIn(database, sql`${devicesIn(place, scope)} and v.no > ${after} order by v.no limit ${limit}`),
    ),
  )
  return found
    .flat()
    .sort((a, b) => a.no - b.no)
    .slice(0, limit)
}

/** A few of the devices that a rule has, whichever are found first. */
export async function someMembers(
  database: Reader,
  scope: Scope,
  { places }: RuleSearch,
  limit: number,
): Promise<RuleMember[]> {
  const found = await Promise.all(
    places.map((place) => membersIn(database, sql`${devicesIn(place, scope)} limit ${limit}`)),
  )
  return found.flat().slice(0, limit)
}

async function membersIn(database: Reader, rows: SQL): Promise<RuleMember[]> {
  const found = await database.rows<{ no: number; user: string | null; id: Buffer }>(
    sql`select v.no, v.id, u.name as user ${rows}`,
  )
  return found.map(({ no, user, id }) => ({ no, user, device: uuidFromBytes(id) }))
}

/** The people that a rule has, by name, each once. @param limit of the people, about */
export async function rulePeople(
  database: Reader,
  scope: Scope,
  { places }: RuleSearch,
  limit: number,
): Promise<string[]> {
  const people = new Set<string>()
  for (const place of places) {
    const rows = await database.rows<{ user: string }>(
      sql`select distinct u.name as user ${devicesIn(place, scope)} and u.named limit ${limit}`,
    )
    for (const { user } of rows) people.add(user)
  }
  return [...people]
}
