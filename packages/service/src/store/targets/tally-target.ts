import { type Mode, type Permission, type Platform, platforms, type Target } from '@zbell/core'
import { type SQL, sql } from 'drizzle-orm'
import type { Where } from '../apps/where.ts'
import type { Reader } from '../database.ts'
import { anyOf, commas } from '../fragments.ts'
import { isReachable } from './reachable.ts'
import { coversMoreThan, platformsIn, targetConditions, targetParts, unionOf } from './target-devices.ts'

/** Devices of a target that a decision does not tell apart. */
export type TargetGroup = {
  readonly platform: Platform
  readonly permission: Permission
  readonly muted: boolean
  readonly devices: number
  /** Of these, how many belong to somebody who lacks a value; those that would not be rung anyway are not counted. */
  readonly lackingAny: number
  readonly lacking: { readonly [attribute: string]: number }
}

type Counts = {
  readonly groups: readonly TargetGroup[]
  /** Who would be rung; a device that is nobody's counts as one of its own. */
  readonly people: number
}

export type Tally = Counts & {
  /** The numbers come from a sample. */
  readonly estimated: boolean
  /** Those who were looked at, as tails of statements over devices `v`. */
  readonly parts: readonly SQL[]
}

/** Attributes that the texts want to say, how the notification rings, and whether every device is to be counted. */
type Asked = { readonly names: readonly string[]; readonly mode: Mode; readonly exact: boolean }

/** When a target is estimated, and from how many people. */
export const sampling = {
  /** Targets that cover more devices or topic memberships are estimated. */
  above: 50_000,
  /** An estimate looks at about so many people; of everyone it is right to about one in a hundred. */
  people: 20_000,
  /** Fewer devices than these in the sample say too little of the rest, and all are counted. */
  fewest: 800,
}
/** They come from so many short stretches, spread over all numbers: who joined sumOfCounts tends to be alike. */
const stretches = 200

/**
 * Counts who a target means, by what decides whether they ring: one look at each of its devices, or at a sample of the app's
 * people when those are many.
 */
export async function tallyTarget(
  database: Reader,
  target: Target,
  where: Where,
  asked: Asked,
  how = sampling,
): Promise<Tally> {
  const [parts, isLarge] = await Promise.all([
    targetParts(database, target, where),
    asked.exact ? false : coversMoreThan(database, target, where, how.above),
  ])
  if (parts.length === 0) return { groups: [], people: 0, estimated: false, parts }
  const lacks = await lackingConditions(database, where, asked.names)
  const estimated = isLarge ? await estimate(database, target, where, { lacks, asked, how }) : undefined
  return estimated ?? { ...(await count(database, parts, lacks, asked)), estimated: false, parts }
}

/** For each attribute, whether the person of a device `v` lacks it. */
async function lackingConditions(
  database: Reader,
  { appNo, environment }: Where,
  names: readonly string[],
): Promise<readonly SQL[]> {
  if (names.length === 0) return []
  const rows = await database.rows<{ no: number; name: string }>(
    sql`select no, name from attributes where app_no = ${appNo} and environment = ${environment} and name in ${names}`,
  )
  const numbers = new Map(rows.map(({ no, name }) => [name, no]))
  return names.map((name) =>
    // A name that no attribute has is known of nobody.
    numbers.has(name)
      ? sql`not exists (select 1 from user_attributes a
                        where a.user_no = v.user_no and a.attribute_no = ${numbers.get(name)})`
      : sql`true`,
  )
}

type Row = {
  readonly platform: Platform | null
  readonly permission: Permission | null
  readonly muted: number | null
  readonly devices: number
  readonly people: number
  readonly lackingAny: string
  readonly [lacking: `lacking${number}`]: string
}

const lacksColumn = (i: number): SQL => sql.raw(`lacks${i}`)

/** Counts what these parts find. */
async function count(
  database: Reader,
  parts: readonly SQL[],
  lacks: readonly SQL[],
  { names, mode }: Asked,
): Promise<Counts> {
  const rings = isReachable(mode)
  const own = [
    sql`v.no, v.platform, v.permission, v.muted`,
    sql`coalesce(cast(v.user_no as signed), -cast(v.no as signed)) as person`,
    sql`${rings} as rings`,
    ...lacks.map((condition, i) => sql`${rings} and ${condition} as ${lacksColumn(i)}`),
  ]
  const any = lacks.length === 0 ? sql`false` : anyOf(lacks.map((_, i) => lacksColumn(i)))
  const sums = lacks.map((_, i) => sql`, sum(${lacksColumn(i)}) as ${sql.raw(`lacking${i}`)}`)
  const rows = await database.rows<Row>(
    sql`select platform, permission, muted, count(*) as devices,
       count(distinct if(rings and not ${any}, person, null)) as people, sum(${any}) as lackingAny ${sql.join(sums)}
     from (${unionOf(parts, commas(own))}) devices
     group by platform, permission, muted with rollup`,
  )
  return {
    groups: rows.flatMap((row) =>
      row.platform === null || row.permission === null || row.muted === null
        ? []
        : [
            {
              platform: row.platform,
              permission: row.permission,
              muted: row.muted === 1,
              devices: row.devices,
              lackingAny: Number(row.lackingAny),
              lacking: Object.fromEntries(names.map((name, i) => [name, Number(row[`lacking${i}`])])),
            },
          ],
    ),
    // The last row is about all; those in between are nobody's question.
    people: rows.find(({ platform }) => platform === null)?.people ?? 0,
  }
}

/** An estimate is no truer for its last digits. */
const rounded = (number: number): number => Number(number.toPrecision(3))

/** Two counts of what has nobody in common, each found in a share of what there is, as one of all. */
function sumOfCounts(counts: readonly (Counts & { readonly share: number })[]): Counts {
  const groups = new Map<string, TargetGroup>()
  for (const { groups: own, share } of counts)
    for (const group of own) {
      const name = `${group.platform} ${group.permission} ${group.muted}`
      const before = groups.get(name)
      groups.set(name, {
        ...group,
        devices: (before?.devices ?? 0) + group.devices / share,
        lackingAny: (before?.lackingAny ?? 0) + group.lackingAny / share,
        lacking: Object.fromEntries(
          Object.entries(group.lacking).map(([one, lacking]) => [one, (before?.lacking[one] ?? 0) + lacking / share]),
        ),
      })
    }
  return {
    groups: [...groups.values()].map((group) => ({
      ...group,
      devices: rounded(group.devices),
      lackingAny: rounded(group.lackingAny),
      lacking: Object.fromEntries(Object.entries(group.lacking).map(([one, lacking]) => [one, rounded(lacking)])),
    })),
    people: rounded(counts.reduce((sum, { people, share }) => sum + people / share, 0)),
  }
}

/**
 * Of some people of the app, with all their devices, and of some devices that are nobody's. Each number of either is as
 * likely to be looked at as any other, so that what is found, divided by the share, is unbiased however the numbers lie; and
 * the same ones are looked at each time, so that a review that is asked for again says the same.
 * @returns undefined when a sample saves nothing or says too little
 */
async function estimate(
  database: Reader,
  target: Target,
  where: Where,
  { lacks, asked, how }: { readonly lacks: readonly SQL[]; readonly asked: Asked; readonly how: typeof sampling },
): Promise<Tally | undefined> {
  const [people, nobodys, conditions] = await Promise.all([
    // Index by index: of each the first and the last are found without a walk.
    spanOf(database, sql`users`, [sql`named = false`, sql`named = true`], where),
    spanOf(
      database,
      sql`devices`,
      platforms.map((platform) => sql`platform = ${platform}`),
      where,
    ),
    targetConditions(database, target, where),
  ])
  const { appNo, environment } = where
  // Of an app among others few numbers are its own: then more of them are looked at.
  for (const wanted of [how.people, how.people * 8, how.people * 64]) {
    const some = sampleOf(sql`u.no`, people, wanted)
    const others = sampleOf(sql`v.no`, nobodys, wanted)
    if (some.share === 1 && others.share === 1) return undefined
    const peoples = [
      sql`from users u force index (by_age) straight_join devices v force index (by_user) on v.user_no = u.no
          where u.app_no = ${appNo} and u.environment = ${environment} and u.named in (false, true)
            and ${some.condition} and ${conditions}`,
    ]
    const alone = platformsIn(target).map(
      (platform) => sql`from devices v force index (by_platform)
          where v.app_no = ${appNo} and v.environment = ${environment} and v.platform = ${platform} and v.user_no is null
            and ${others.condition} and ${conditions}`,
    )
    const [ofPeople, ofNobody] = await Promise.all([
      count(database, peoples, lacks, asked),
      count(database, alone, lacks, asked),
    ])
    const found = [...ofPeople.groups, ...ofNobody.groups].reduce((sum, { devices }) => sum + devices, 0)
    if (found < how.fewest) continue
    const counts = sumOfCounts([
      { ...ofPeople, share: some.share },
      { ...ofNobody, share: others.share },
    ])
    return { ...counts, estimated: true, parts: [...peoples, ...alone] }
  }
  return undefined
}

type Span = { readonly first: number; readonly last: number }

async function spanOf(
  database: Reader,
  table: SQL,
  conditions: readonly SQL[],
  { appNo, environment }: Where,
): Promise<Span> {
  const rows = await database.rows<{ first: number | null; last: number | null }>(
    sql.join(
      conditions.map(
        (one) => sql`select min(no) as first, max(no) as last from ${table}
                     where app_no = ${appNo} and environment = ${environment} and ${one}`,
      ),
      sql` union all `,
    ),
  )
  const numbers = rows.flatMap(({ first, last }) => (first === null || last === null ? [] : [first, last]))
  return numbers.length === 0 ? { first: 0, last: 0 } : { first: Math.min(...numbers), last: Math.max(...numbers) }
}

/** Of few numbers a sample saves nothing worth having. */
const allFromShare = 0.3

/**
 * About so many numbers of a span: stretches of equal length, one at another place in each equal part of it, or all.
 * @returns a condition, and the share of the span for which it holds
 */
function sampleOf(
  column: SQL,
  { first, last }: Span,
  wanted: number,
): { readonly condition: SQL; readonly share: number } {
  const numbers = last - first + 1
  if (wanted >= numbers * allFromShare) return { condition: sql`${column} between ${first} and ${last}`, share: 1 }
  const part = numbers / stretches
  const length = Math.max(1, Math.round(wanted / stretches))
  const places = Array.from({ length: stretches }, (_, i) => {
    // The golden section spreads the places evenly and never in step with a pattern in the numbers.
    const place = Math.floor(first + part * i + ((i * 0.618_033_988_75) % 1) * (part - length))
    return sql`${column} between ${place} and ${place + length - 1}`
  })
  return { condition: anyOf(places), share: (length * stretches) / numbers }
}
