import type { Setup } from '@zbell/contract'
import { nextStep, type Platform, platforms, type SetupFacts, wayToRing } from '@zbell/core'
import type { Api } from '../api/index.ts'
import { countAppKeys, listMilestones } from '../apps/index.ts'
import { type CredentialRow, credentialsInUse } from '../credentials/index.ts'
import type { Database, Scope } from '../database/index.ts'
import { type NewestDevice, newestDevices, refusalsToday } from '../devices/index.ts'
import type { GatewayRegistry } from '../gateways/index.ts'

/** @param handsets whether virtual handsets run beside this service */
export function serveSetup(api: Api, database: Database, gateways: GatewayRegistry, handsets: boolean): void {
  api.serve('readSetup', async ({ caller: { scope } }) => {
    const devices = await newestDevices(database, scope)
    const credentials = await credentialsInUse(database, scope)
    const facts = await setupFacts(database, gateways, scope, devices, credentials)
    return {
      app: scope.app.slug,
      environment: scope.environment,
      handsets: handsets && scope.environment === 'development',
      userRefusals: await refusalsToday(database, scope),
      platforms: facts.map((one) => ({
        ...platformView(one, devices),
        credential: credentials.find((row) => row.platform === one.platform)?.id ?? null,
      })),
    }
  })
}

async function setupFacts(
  database: Database,
  gateways: GatewayRegistry,
  scope: Scope,
  devices: readonly NewestDevice[],
  credentials: readonly CredentialRow[],
): Promise<SetupFacts[]> {
  const { app, environment } = scope
  const appKeys = await countAppKeys(database, scope)
  const milestones = await listMilestones(database, app.no, environment)
  const gatewayOf = async (platform: Platform) => gateways.inspector.describe({ appNo: app.no, environment, platform })
  const known = await Promise.all(platforms.map(gatewayOf))
  const elsewhere = await Promise.all(
    platforms.map(async (platform) => {
      const row = credentials.find((one) => one.platform === platform)
      const place = { appNo: app.no, environment, platform }
      const used = row && platform !== 'web' ? await gateways.profiles.of(place) : undefined
      return row && used && (await gateways.profiles.unboundOrigin(place, used, row))
    }),
  )
  return platforms.map((platform, at) => {
    const when = (what: 'accepted' | 'received', rehearsal: boolean) =>
      milestones
        .find((one) => one.platform === platform && one.what === what && one.rehearsal === rehearsal)
        ?.at.getTime()
    const registered = (rehearsal: boolean) =>
      devices.find((one) => one.platform === platform && one.rehearsal === rehearsal)?.registeredAt.getTime()
    const { profile, outdatedFrom, origin } = known[at]!
    const row = credentials.find((one) => one.platform === platform)
    return {
      platform,
      environment,
      identifier: app.identifiers[platform],
      profile:
        profile === null
          ? undefined
          : { name: profile, origin: origin ?? undefined, outdatedFrom: outdatedFrom ?? undefined },
      credential: row && {
        kind: row.kind,
        addedAtMs: row.createdAt.getTime(),
        notAfterMs: row.notAfter?.getTime(),
        rejected: row.rejectedAt !== null,
        elsewhere: elsewhere[at],
        check: row.verdict && row.checkedAt ? { verdict: row.verdict, atMs: row.checkedAt.getTime() } : undefined,
      },
      appKeys,
      device: { atMs: registered(false), rehearsedAtMs: registered(true) },
      accepted: { atMs: when('accepted', false), rehearsedAtMs: when('accepted', true) },
      received: { atMs: when('received', false), rehearsedAtMs: when('received', true) },
    }
  })
}

function platformView(
  facts: SetupFacts,
  devices: readonly NewestDevice[],
): Omit<Setup['platforms'][number], 'credential'> {
  const steps = wayToRing(facts, Date.now())
  const own = devices.filter((one) => one.platform === facts.platform)
  const next = nextStep(steps)
  return {
    platform: facts.platform,
    ready: next === undefined,
    next: next?.step ?? null,
    steps: steps.map(({ atMs, remedy = null, action = null, ...step }) => ({
      ...step,
      remedy,
      action,
      at: atMs === undefined ? null : new Date(atMs).toISOString(),
    })),
    device: (own.find((one) => !one.rehearsal) ?? own[0])?.id ?? null,
  }
}
