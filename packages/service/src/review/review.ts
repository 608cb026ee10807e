import type { Review } from '@zbell/contract'
import {
  type Content,
  type Filling,
  languagesOf,
  type Mode,
  type Platform,
  platforms,
  type Reason,
  Renderer,
  readerOf,
  reasons,
  reasonToSkip,
  type Target,
  type Urgency,
  type Warning,
  type Writing,
  warningsFor,
} from '@zbell/core'
import type { GatewayRoom } from '../gateways/gateways.ts'
import type { Scope } from '../store/apps/apps.ts'
import type { Database, Reader } from '../store/database.ts'
import { readersValues } from '../store/devices/load-block-devices.ts'
import {
  countLacking,
  countLackingOne,
  countPeople,
  groupTarget,
  listLeftOut,
  sampleDevices,
  type TargetGroup,
} from '../store/notifications/review-target.ts'
import type { Pace } from '../telemetry/pace.ts'

export type Draft = {
  readonly target: Target
  readonly content: Writing
  readonly filling: Filling
  readonly mode: Mode
  readonly urgency: Urgency
  readonly ttlSeconds: number
  readonly spreadSeconds: number
}

export type ReviewReader = {
  readonly user?: string | undefined
  readonly language?: string | undefined
  readonly list?: string | undefined
}

/** At most so many languages are shown for a platform, and so many devices listed. */
const languagesShown = 8
const mostListed = 200

/** Longer than this nobody looks at a page that stands still. */
const withinMs = 10_000

/**
 * Says what would happen, and stores nothing.
 * @param signal nobody waits for the answer any more
 * @throws {TooSlow} when its target takes too long to look through
 */
export async function reviewDraft(
  given: { database: Database; gateways: GatewayRoom; pace: Pace },
  scope: Scope,
  draft: Draft,
  reader: ReviewReader,
  signal?: AbortSignal,
): Promise<Review> {
  const { pace } = given
  const database = given.database.bounded({ withinMs, signal })
  const where = { appNo: scope.app.no, environment: scope.environment }
  const wake = draft.mode === 'wake'
  const wanted = wantedValues(draft)
  // Each looks through the whole target; they do so at the same time.
  const [groups, { lacking, faults }, people] = await Promise.all([
    groupTarget(database, draft.target, where),
    lackingValues(database, where, draft, wanted),
    countPeople(database, draft.target, where, { names: wanted, wake }),
  ])
  const rung = groups.filter((group) => skipOf(group, draft.mode) === undefined)
  const devices = { ios: 0, android: 0, web: 0 }
  // Who lacks a value is left out, and so is not among those who ring.
  for (const group of rung) devices[group.platform] += group.devices
  for (const [platform, count] of lacking) devices[platform] -= count
  const total = devices.ios + devices.android + devices.web
  const samples =
    total === 0 ? [] : await samplesOf({ database, gateways: given.gateways }, scope, draft, reader, devices)
  const warnings = samples.flatMap(({ platform, content }) => warningsFor(content as Content, platform))
  if (total === 0) faults.push({ field: 'to', says: 'Nobody would be rung: see who is left out and why.' })
  for (const { platform, bytes, limitBytes } of samples)
    if (limitBytes !== null && bytes > limitBytes)
      faults.push({
        field: 'content',
        says: `has ${bytes} bytes on ${platform}, and its gateway takes ${limitBytes}: ${reasons['too-large'].does}`,
      })
  const devicesPerSecond = pace.devicesPerSecond()
  return {
    people,
    devices,
    leftOut: leftOutOf(
      groups,
      draft.mode,
      [...lacking.values()].reduce((sum, count) => sum + count, 0),
    ),
    listed: reader.list === undefined ? [] : await listed(database, draft, where, groups, reader.list),
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

const skipOf = ({ permission, muted }: Pick<TargetGroup, 'permission' | 'muted'>, mode: Mode): Reason | undefined =>
  reasonToSkip({ permission, muted, retired: false }, mode)

/** Attributes that the texts name and that nothing stands in for. */
const wantedValues = ({ content, filling, mode }: Draft): string[] =>
  mode === 'wake'
    ? []
    : [...new Renderer(content, filling).personal].filter((name) => !Object.hasOwn(filling.fallbacks ?? {}, name))

/** A value that somebody lacks is a fault, unless something stands in for it. */
async function lackingValues(
  database: Reader,
  where: { appNo: number; environment: Scope['environment'] },
  { target }: Draft,
  wanted: readonly string[],
): Promise<{ lacking: ReadonlyMap<Platform, number>; faults: { field: string; says: string }[] }> {
  const [lacking, each] = await Promise.all([
    countLackingOne(database, target, where, wanted),
    countLacking(database, target, where, wanted),
  ])
  const missing = each.filter(({ devices }) => devices > 0)
  return {
    lacking,
    faults: missing.map(({ name, devices }) => ({
      field: `fallbacks.${name}`,
      says: `${devices.toLocaleString('en')} of the devices belong to somebody without “${name}”; give a fallback for it, or a value.`,
    })),
  }
}

function leftOutOf(groups: readonly TargetGroup[], mode: Mode, lacking: number): Review['leftOut'] {
  const counts = new Map<Reason, number>()
  for (const group of groups) {
    const reason = skipOf(group, mode)
    if (reason) counts.set(reason, (counts.get(reason) ?? 0) + group.devices)
  }
  if (lacking > 0) counts.set('missing-value', lacking)
  return [...counts].map(([reason, count]) => ({
    reason,
    count,
    says: reasons[reason].says,
    does: reasons[reason].does,
  }))
}

async function listed(
  database: Reader,
  { target, mode }: Draft,
  where: { appNo: number; environment: Scope['environment'] },
  groups: readonly TargetGroup[],
  reason: string,
): Promise<Review['listed']> {
  const kinds = new Map(
    groups
      .filter((group) => skipOf(group, mode) === reason)
      .map(({ permission, muted }) => [`${permission} ${muted}`, { permission, muted }]),
  )
  const all: Review['listed'] = []
  for (const kind of kinds.values())
    if (all.length < mostListed)
      all.push(...(await listLeftOut(database, target, where, kind, mostListed - all.length)))
  return all
}

async function samplesOf(
  { database, gateways }: { database: Reader; gateways: GatewayRoom },
  scope: Scope,
  draft: Draft,
  { user, language }: ReviewReader,
  devices: Record<Platform, number>,
): Promise<Review['samples']> {
  const where = { appNo: scope.app.no, environment: scope.environment }
  const renderer = new Renderer(draft.content, draft.filling)
  const samples: Review['samples'] = []
  for (const platform of platforms.filter((one) => devices[one] > 0)) {
    const some = await sampleDevices(database, draft.target, where, platform, user, draft.mode === 'wake')
    const values = await readersValues(
      database,
      some.flatMap(({ userNo }) => userNo ?? []),
    )
    const languages =
      language !== undefined
        ? [language]
        : user !== undefined
          ? [undefined]
          : [undefined, ...languagesOf(draft.content)].slice(0, languagesShown)
    for (const one of languages) {
      for (const device of some) {
        const own = (device.userNo === null ? undefined : values.get(device.userNo)) ?? {}
        const asTheyAre = readerOf(device, own)
        // For somebody by name, what they get; otherwise the shared texts and each language in turn.
        const rendered = renderer.render(
          user !== undefined && one === undefined ? asTheyAre : { ...asTheyAre, language: one },
        )
        if (rendered.is === 'missing') continue
        const { content } = rendered
        const measured = await gateways.measure(scope, platform, { ...draft, content })
        samples.push({
          platform,
          language: content.lang ?? null,
          user: device.user,
          content: content as Review['samples'][number]['content'],
          bytes: measured.bytes,
          limitBytes: measured.limitBytes,
        })
        break
      }
    }
  }
  return samples
}

const distinct = <T>(all: readonly T[]): T[] => [...new Map(all.map((one) => [JSON.stringify(one), one])).values()]
