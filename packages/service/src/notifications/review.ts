import type { Review } from '@zbell/contract'
import {
  type Content,
  type Mode,
  type Reason,
  Renderer,
  reasons,
  reasonToSkip,
  type Warning,
  warningsFor,
} from '@zbell/core'
import type { Pace } from '../base/index.ts'
import type { Database, Reader, Scope, Where } from '../database/index.ts'
import type { GatewayRegistry } from '../gateways/index.ts'
import { listLeftOut, ringersOf, type Tally, type TargetGroup, tallyTarget } from '../targets/index.ts'
import type { Draft } from './draft.ts'
import { type DeviceVerdict, reviewPerson } from './review-person.ts'
import { type Moment, type PolicyEffects, policyEffects, policyFor } from './review-policy.ts'
import { samplesOf, type Unserved } from './review-samples.ts'

export type ReviewReader = {
  readonly user?: string | undefined
  readonly language?: string | undefined
  readonly list?: string | undefined
  /** `true` counts every device, however many there are. */
  readonly exact?: 'true' | 'false' | undefined
}

/** At most so many devices are listed. */
const maxListed = 200

/** Longer than this nobody looks at a page that stands still. */
const withinMs = 10_000

/**
 * Says what would happen, and stores nothing.
 * @param moment when it would ring
 * @param signal nobody waits for the answer any more
 * @throws {TooSlow} when its target takes too long to look through
 */
export async function reviewDraft(
  given: { database: Database; gateways: GatewayRegistry; pace: Pace },
  scope: Scope,
  draft: Draft,
  reader: ReviewReader,
  moment: Moment,
  signal?: AbortSignal,
): Promise<Review> {
  const { pace } = given
  const database = given.database.bounded({ withinMs, signal })
  const where = { appNo: scope.app.no, environment: scope.environment }
  const wanted = wantedValues(draft)
  const channelNo = draft.channel?.no ?? null
  const ofApp = await policyFor(database, where, draft)
  // Quiet hours and caps are asked of each person: of many, of a sample of them.
  const exact = reader.exact === 'true' && ofApp === undefined
  const unserved = await given.gateways.unserved(where.appNo, where.environment)
  const tally = await tallyTarget(database, draft.target, where, {
    names: wanted,
    mode: draft.mode,
    channelNo,
    exact,
    unserved: [...unserved.keys()],
  })
  const { groups, estimated, parts } = tally
  const faults = lackingFaults(groups, wanted)
  let devices = { ios: 0, android: 0, web: 0 }
  let people = tally.people
  // Who lacks a value is left out, and so is not among those who ring.
  for (const group of groups)
    if (skipOf(group, draft.mode, unserved) === undefined) devices[group.platform] += group.devices - group.lackingAny
  const held = ofApp && (await restrainedOf(database, where, draft, ofApp, tally, { moment, unserved }))
  if (held) ({ devices, people } = held)
  const total = devices.ios + devices.android + devices.web
  const person =
    reader.user === undefined
      ? null
      : await reviewPerson(
          { database: given.database, gateways: given.gateways },
          scope,
          draft,
          { user: reader.user, language: reader.language },
          decider(database, where, draft, { wanted, unserved, ofApp, moment }),
        )
  const samples = person
    ? person.devices.flatMap(({ sample }) => sample ?? [])
    : total === 0
      ? []
      : await samplesOf({ database, gateways: given.gateways }, scope, draft, reader.language, {
          devices,
          parts,
          unserved,
        })
  const warnings = samples.flatMap(({ platform, content }) => warningsFor(content as Content, platform))
  if (total === 0) faults.push({ field: 'to', says: 'Nobody would be rung: see who is left out and why.' })
  for (const { platform, bytes, limitBytes } of samples)
    if (limitBytes !== null && bytes > limitBytes)
      faults.push({
        field: 'content',
        says: `has ${bytes} bytes on ${platform}, and its gateway takes ${limitBytes}: ${reasons['too-large'].remedy}`,
      })
  const devicesPerSecond = pace.devicesPerSecond()
  return {
    people,
    devices,
    estimated,
    leftOut: leftOutOf(groups, draft.mode, unserved, held?.leftOut),
    quiet: held?.quiet ?? [],
    caps: held?.caps ?? [],
    listed: reader.list === undefined ? [] : await listed(database, draft, where, groups, reader.list),
    person,
    samples,
    faults: distinct(faults),
    warnings: distinct<Warning>(warnings),
    seconds:
      total === 0
        ? 0
        : devicesPerSecond === undefined
          ? draft.spreadSeconds || null
          : Math.max(draft.spreadSeconds, Math.ceil(total / devicesPerSecond)),
  }
}

/** Decides of a target that is narrowed to one device. */
function decider(
  database: Reader,
  where: Where,
  draft: Draft,
  {
    wanted,
    unserved,
    ofApp,
    moment,
  }: {
    readonly wanted: readonly string[]
    readonly unserved: Unserved
    readonly ofApp: Awaited<ReturnType<typeof policyFor>>
    readonly moment: Moment
  },
): (target: Draft['target']) => Promise<DeviceVerdict> {
  return async (target) => {
    const tally = await tallyTarget(database, target, where, {
      names: wanted,
      mode: draft.mode,
      channelNo: draft.channel?.no ?? null,
      exact: true,
      unserved: [...unserved.keys()],
    })
    const [group] = tally.groups
    if (!group) return { leftOut: 'not-in-target', until: null }
    const skipped = skipOf(group, draft.mode, unserved) ?? (group.lackingAny > 0 ? 'missing-value' : undefined)
    if (skipped || !ofApp) return { leftOut: skipped, until: null }
    const held = await restrainedOf(database, where, draft, ofApp, tally, { moment, unserved })
    return { leftOut: [...held.leftOut.keys()][0], until: held.quiet[0]?.until ?? null }
  }
}

/** Who of those that would ring is kept from it by quiet hours and caps: looked at person by person. */
async function restrainedOf(
  database: Reader,
  where: Where,
  draft: Draft,
  ofApp: NonNullable<Awaited<ReturnType<typeof policyFor>>>,
  { looks, lacks }: Tally,
  { moment, unserved }: { readonly moment: Moment; readonly unserved: Unserved },
): Promise<PolicyEffects> {
  const channelNo = draft.channel?.no ?? null
  const looked = await Promise.all(
    looks.map(async ({ parts, share }) => ({
      share,
      ringers: await ringersOf(database, parts, {
        mode: draft.mode,
        channelNo,
        unserved: [...unserved.keys()],
        lacks,
      }),
    })),
  )
  return policyEffects(database, where, draft, ofApp, { moment, looks: looked })
}

const skipOf = (group: TargetGroup, mode: Mode, unserved: Unserved): Reason | undefined =>
  reasonToSkip({ ...group, retired: false }, mode) ?? (group.withoutGateway ? unserved.get(group.platform) : undefined)

/** Attributes that the texts name and that nothing stands in for. */
const wantedValues = ({ content, filling, mode }: Draft): string[] =>
  mode === 'wake'
    ? []
    : [...new Renderer(content, filling).personal].filter((name) => !Object.hasOwn(filling.fallbacks ?? {}, name))

/** A value that somebody lacks is a fault, unless something stands in for it. */
const lackingFaults = (groups: readonly TargetGroup[], wanted: readonly string[]): { field: string; says: string }[] =>
  wanted.flatMap((name) => {
    const devices = groups.reduce((sum, { lacking }) => sum + (lacking[name] ?? 0), 0)
    return devices === 0
      ? []
      : [
          {
            field: `fallbacks.${name}`,
            says: `${devices.toLocaleString('en')} of the devices belong to somebody without “${name}”; give a fallback for it, or a value.`,
          },
        ]
  })

function leftOutOf(
  groups: readonly TargetGroup[],
  mode: Mode,
  unserved: Unserved,
  policyEffects: ReadonlyMap<Reason, number> = new Map(),
): Review['leftOut'] {
  const counts = new Map<Reason, number>(policyEffects)
  const add = (reason: Reason, devices: number) => {
    if (devices > 0) counts.set(reason, (counts.get(reason) ?? 0) + devices)
  }
  for (const group of groups) {
    const reason = skipOf(group, mode, unserved)
    if (reason) add(reason, group.devices)
    else add('missing-value', group.lackingAny)
  }
  return [...counts].map(([reason, count]) => ({
    reason,
    count,
    detail: reasons[reason].detail,
    remedy: reasons[reason].remedy,
  }))
}

async function listed(
  database: Reader,
  { target, mode, channel }: Draft,
  where: { appNo: number; environment: Scope['environment'] },
  groups: readonly TargetGroup[],
  reason: string,
): Promise<Review['listed']> {
  const kinds = new Map(
    groups
      .filter((group) => reasonToSkip({ ...group, retired: false }, mode) === reason)
      .map(({ permission, muted, channelBlocked, channelMuted }) => {
        const kind = { permission, muted, channelBlocked, channelMuted }
        return [JSON.stringify(kind), kind]
      }),
  )
  const all: Review['listed'] = []
  for (const kind of kinds.values())
    if (all.length < maxListed)
      all.push(...(await listLeftOut(database, target, where, kind, channel?.no ?? null, maxListed - all.length)))
  return all
}

const distinct = <T>(all: readonly T[]): T[] => [...new Map(all.map((one) => [JSON.stringify(one), one])).values()]
