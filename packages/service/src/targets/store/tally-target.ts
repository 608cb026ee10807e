import type { Mode, Permission, Platform, Target } from '@zbell/core'
import { type SQL, sql } from 'drizzle-orm'
import { anyOf, attributes, commas, type Reader, select, type Where } from '../../database/index.ts'
import { channelFacts, isReachable, isWithoutGateway, rounded, sampler } from '../../segments/index.ts'
import { coversMoreThan, platformsIn, targetConditions, targetParts, unionOf } from './target-devices.ts'

/** Devices of a target that a decision does not tell apart. */
export type TargetGroup = {
  readonly platform: Platform
  readonly permission: Permission
  readonly muted: boolean
  readonly channelBlocked: boolean
  readonly channelMuted: boolean
  readonly withoutGateway: boolean
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
  /** The same, with what share of all each has. */
  readonly looks: readonly { readonly parts: readonly SQL[]; readonly share: number }[]
  /** For each attribute that was asked about, whether the person of a device `v` lacks it. */
  readonly lacks: readonly SQL[]
}

/** Attributes that the texts want to say, how the notification rings, and whether every device is to be counted. */
type TallyOptions = {
  readonly names: readonly string[]
  readonly mode: Mode
  readonly channelNo: number | null
  readonly exact: boolean
  /** Platforms for which the app has no credential or no gateway. */
  readonly unserved?: readonly Platform[]
}

/** When a target is estimated, and from how many people. */
export const sampling = {
  /** Targets that cover more devices or topic memberships are estimated. */
  above: 50_000,
  /** An estimate looks at about so many people; of everyone it is right to about one in a hundred. */
  people: 20_000,
  /** Fewer devices than these in the sample say too little of the rest, and all are counted. */
  fewest: 800,
}
/**
 * Counts who a target means, by what decides whether they ring: one look at each of its devices, or at a sample of the app's
 * people when those are many.
 */
export async function tallyTarget(
  database: Reader,
  target: Target,
  where: Where,
  asked: TallyOptions,
  how = sampling,
): Promise<Tally> {
  const [parts, isLarge] = await Promise.all([
    targetParts(database, target, where),
    asked.exact ? false : coversMoreThan(database, target, where, how.above),
  ])
  if (parts.length === 0) return { groups: [], people: 0, estimated: false, parts, looks: [], lacks: [] }
  const lacks = await lackingConditions(database, where, asked.names)
  const estimated = isLarge ? await estimate(database, target, where, { lacks, asked, how }) : undefined
  return (
    estimated ?? {
      ...(await count(database, parts, lacks, asked)),
      estimated: false,
      parts,
      looks: [{ parts, share: 1 }],
      lacks,
    }
  )
}

/** For each attribute, whether the person of a device `v` lacks it. */
async function lackingConditions(
  database: Reader,
  { appNo, environment }: Where,
  names: readonly string[],
): Promise<readonly SQL[]> {
  if (names.length === 0) return []
  const rows = await select(
    database,
    { no: attributes.no, name: attributes.name },
    sql`from ${attributes} where ${attributes.appNo} = ${appNo} and ${attributes.environment} = ${environment} and ${attributes.name} in ${names}`,
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
  readonly channelBlocked: number | null
  readonly channelMuted: number | null
  readonly withoutGateway: number | null
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
  { names, mode, channelNo, unserved = [] }: TallyOptions,
): Promise<Counts> {
  const rings = isReachable(mode, channelNo, unserved)
  const ofChannel = channelFacts(channelNo)
  const own = [
    sql`v.no, v.platform, v.permission, v.muted, ${ofChannel.blocked} as channelBlocked,
        ${ofChannel.muted} as channelMuted, ${isWithoutGateway(unserved)} as withoutGateway`,
    sql`coalesce(cast(v.user_no as signed), -cast(v.no as signed)) as person`,
    sql`${rings} as rings`,
    ...lacks.map((condition, i) => sql`${rings} and ${condition} as ${lacksColumn(i)}`),
  ]
  const any = lacks.length === 0 ? sql`false` : anyOf(lacks.map((_, i) => lacksColumn(i)))
  const sums = lacks.map((_, i) => sql`, sum(${lacksColumn(i)}) as ${sql.raw(`lacking${i}`)}`)
  const rows = await database.rows<Row>(
    sql`select platform, permission, muted, channelBlocked, channelMuted, withoutGateway, count(*) as devices,
       count(distinct if(rings and not ${any}, person, null)) as people, sum(${any}) as lackingAny ${sql.join(sums)}
     from (${unionOf(parts, commas(own))}) devices
     group by platform, permission, muted, channelBlocked, channelMuted, withoutGateway with rollup`,
  )
  return {
    groups: rows.flatMap((row) =>
      row.platform === null ||
      row.permission === null ||
      row.muted === null ||
      row.channelBlocked === null ||
      row.channelMuted === null ||
      row.withoutGateway === null
        ? []
        : [
            {
              platform: row.platform,
              permission: row.permission,
              muted: row.muted === 1,
              channelBlocked: row.channelBlocked === 1,
              channelMuted: row.channelMuted === 1,
              withoutGateway: row.withoutGateway === 1,
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

/** Two counts of what has nobody in common, each found in a share of what there is, as one of all. */
function sumOfCounts(counts: readonly (Counts & { readonly share: number })[]): Counts {
  const groups = new Map<string, TargetGroup>()
  for (const { groups: own, share } of counts)
    for (const group of own) {
      const name = `${group.platform} ${group.permission} ${group.muted} ${group.channelBlocked} ${group.channelMuted} ${group.withoutGateway}`
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
 * Of some people of the app, with all their devices, and of some devices that are nobody's.
 * @returns undefined when a sample saves nothing or says too little
 */
async function estimate(
  database: Reader,
  target: Target,
  where: Where,
  {
    lacks,
    asked,
    how,
  }: { readonly lacks: readonly SQL[]; readonly asked: TallyOptions; readonly how: typeof sampling },
): Promise<Tally | undefined> {
  const [draw, conditions] = await Promise.all([
    sampler(database, where, platformsIn(target)),
    targetConditions(database, target, where),
  ])
  // Of an app among others few numbers are its own: then more of them are looked at.
  for (const wanted of [how.people, how.people * 8, how.people * 64]) {
    const sample = draw(wanted)
    if (sample === undefined) return undefined
    const { some, others } = sample
    const peoples = [sql`${some.rows} and ${conditions}`]
    const alone = others.rows.map((rows) => sql`${rows} and ${conditions}`)
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
    return {
      ...counts,
      estimated: true,
      parts: [...peoples, ...alone],
      looks: [
        { parts: peoples, share: some.share },
        { parts: alone, share: others.share },
      ],
      lacks,
    }
  }
  return undefined
}
