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
import type { Database } from '../store/database.ts'
import { readersValues } from '../store/devices/load-block-devices.ts'
import {
  countLacking,
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

/** Says what would happen, and stores nothing. */
export async function reviewDraft(
  given: { database: Database; gateways: GatewayRoom; pace: Pace },
  scope: Scope,
  draft: Draft,
  reader: ReviewReader,
): Promise<Review> {
  const { database, pace } = given
  const where = { appNo: scope.app.no, environment: scope.environment }
  const groups = await groupTarget(database, draft.target, where)
  const rung = groups.filter((group) => skipOf(group, draft.mode) === undefined)
  const devices = { ios: 0, android: 0, web: 0 }
  for (const group of rung) devices[group.platform] += group.devices
  const total = devices.ios + devices.android + devices.web
  const { lacking, faults } = await lackingValues(database, where, draft)
  const samples = total === 0 ? [] : await samplesOf(given, scope, draft, reader, devices)
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
    people: await countPeople(database, draft.target, where, draft.mode === 'wake'),
    devices,
    leftOut: leftOutOf(groups, draft.mode, lacking),
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

/** A value that somebody lacks is a fault, unless something stands in for it. */
async function lackingValues(
  database: Database,
  where: { appNo: number; environment: Scope['environment'] },
  { target, content, filling, mode }: Draft,
): Promise<{ lacking: number; faults: { field: string; says: string }[] }> {
  if (mode === 'wake') return { lacking: 0, faults: [] }
  const wanted = [...new Renderer(content, filling).personal].filter(
    (name) => !Object.hasOwn(filling.fallbacks ?? {}, name),
  )
  const missing = (await countLacking(database, target, where, wanted)).filter(({ devices }) => devices > 0)
  return {
    // Each device lacks at least the value that most lack; more cannot be said without reading them all.
    lacking: Math.max(0, ...missing.map(({ devices }) => devices)),
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
  database: Database,
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
  { database, gateways }: { database: Database; gateways: GatewayRoom },
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
