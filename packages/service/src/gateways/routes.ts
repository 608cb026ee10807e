import type { GatewayText, GatewayVersion } from '@zbell/contract'
import { credentialOf, factsSpokenOf, harOf, type Platform, platforms } from '@zbell/core'
import { type Api, numberAtPlace, pageView } from '../api/index.ts'
import { Problem } from '../base/index.ts'
import { bindCredential, credentialInUse } from '../credentials/index.ts'
import type { Database, GatewayPlace, OnGateway, Scope } from '../database/index.ts'
import type { GatewayRegistry } from './gateways.ts'
import { ProfileRefused, type UsedProfile } from './profiles.ts'
import { deleteProfile, findProfile, listProfiles, type ProfileRow, saveProfile, useProfile } from './store/profiles.ts'
import { endRecording, recordedExchanges, recordedUntil, startRecording } from './store/recordings.ts'

/** The gateway that an address names. @throws {Problem} when there is none */
export function gatewayPlace({ app, environment }: Scope, named: string): GatewayPlace {
  const platform = platforms.find((one) => one === named)
  if (!platform) throw new Problem('unknown-gateway', `There is no gateway ${named}.`)
  return { appNo: app.no, environment, platform }
}

/** One that has profiles. @throws {Problem} */
export function profilePlace(scope: Scope, named: string): GatewayPlace {
  const place = gatewayPlace(scope, named)
  if (place.platform === 'web') throw new Problem('unknown-gateway', 'The web has a standard, and no gateway profile.')
  return place
}

/** @throws {Problem} that places each fault */
export async function inProfileWords<T>(act: () => Promise<T>): Promise<T> {
  try {
    return await act()
  } catch (error) {
    if (!(error instanceof ProfileRefused)) throw error
    const faults = error.faults.map(({ line, column, says }) => ({ pointer: '/profile', detail: says, line, column }))
    const [first] = error.faults
    throw new Problem('profile-refused', first ? `Line ${first.line}: ${first.says}.` : undefined, faults)
  }
}

/** Gateways and the profiles by which an app speaks to them. */
export function serveGateways(api: Api, database: Database, gateways: GatewayRegistry, onGateway: OnGateway): void {
  const textView = async (place: GatewayPlace): Promise<GatewayText> => {
    const [known, used] = await Promise.all([gateways.inspector.describe(place), gateways.profiles.of(place)])
    return { ...known, text: used?.text ?? null, facts: [...(used?.facts ?? [])] }
  }
  const changed = async (place: GatewayPlace): Promise<GatewayText> => {
    await onGateway(place, true)
    return textView(place)
  }

  api.serve('listGateways', async ({ caller: { scope } }) => ({
    items: await Promise.all(
      platforms.map((platform: Platform) => gateways.inspector.describe(gatewayPlace(scope, platform))),
    ),
    next: null,
  }))

  api.serve('readGateway', ({ caller: { scope }, params }) => textView(gatewayPlace(scope, params.platform)))

  api.serve('saveGateway', async ({ caller: { scope, actor }, params, body }) => {
    const place = profilePlace(scope, params.platform)
    const written = await inProfileWords(() => gateways.profiles.written(place, body.profile))
    const { profile } = written
    // The first that there is has nothing to wait for.
    const use = body.use || (await gateways.profiles.of(place)) === undefined
    if (use) await inProfileWords(() => bound(place, written, actor))
    const saved = {
      name: profile.profile,
      asksFor: credentialOf[profile.authentication.kind],
      outdatedFrom: profile.outdatedFrom ?? null,
      text: body.profile,
      madeBy: actor,
    }
    await saveProfile(database, place, saved, use)
    return changed(place)
  })

  api.serve('dropGateway', async ({ caller: { scope }, params }) => {
    const place = profilePlace(scope, params.platform)
    await deleteProfile(database, place)
    return changed(place)
  })

  /**
   * A credential goes only to the origins that it was added for, and where the operator says.
   * @throws {ProfileRefused} where one that is used now would not go
   */
  const bound = async (place: GatewayPlace, written: UsedProfile, actor: string): Promise<void> => {
    const credential = await credentialInUse(database, place.appNo, place.environment, place.platform)
    const origin = credential && (await gateways.profiles.unboundOrigin(place, written, credential))
    if (!credential || origin === undefined) return
    const current = (await gateways.profiles.of(place))?.origins(place.environment)
    if (actor === 'operator')
      return bindCredential(database, credential.no, [
        ...(credential.origins ?? current ?? []),
        ...written.origins(place.environment),
      ])
    if (!current) return
    gateways.profiles.refuseUnbound(written, origin)
  }

  const need = async (place: GatewayPlace, version: string): Promise<ProfileRow> => {
    const row = /^\d{1,9}$/.test(version) ? await findProfile(database, place, Number(version)) : undefined
    if (!row) throw new Problem('unknown-gateway-version', `There is no version ${version}.`)
    return row
  }

  api.serve('listGatewayVersions', async ({ caller: { scope }, params, query: { limit, after } }) => {
    const place = profilePlace(scope, params.platform)
    const rows = await listProfiles(database, place, limit + 1, numberAtPlace(after))
    return pageView(rows, limit, ({ version }) => version, versionView)
  })

  api.serve('readGatewayVersion', async ({ caller: { scope }, params }) => {
    const row = await need(profilePlace(scope, params.platform), params.version)
    return { ...versionView(row), text: row.text }
  })

  api.serve('useGatewayVersion', async ({ caller: { scope, actor }, params }) => {
    const place = profilePlace(scope, params.platform)
    const row = await need(place, params.version)
    // What was good when it was saved need not be: the operator may have forbidden where it leads.
    await inProfileWords(async () => bound(place, await gateways.profiles.written(place, row.text), actor))
    await useProfile(database, place, row.version)
    return changed(place)
  })

  api.serve('lintGateway', async ({ caller: { scope }, body }) => {
    const owner = { appNo: scope.app.no, use: scope.environment }
    const { profile, faults } = await gateways.profiles.lint(owner, body.text)
    return {
      faults: faults.map((fault) => ({ ...fault })),
      profile: profile
        ? {
            name: profile.profile,
            platform: profile.platform,
            asksFor: credentialOf[profile.authentication.kind],
            facts: factsSpokenOf(profile),
          }
        : null,
    }
  })

  serveRecordings(api, database)
}

function serveRecordings(api: Api, database: Database): void {
  const view = async (place: GatewayPlace) => {
    const until = await recordedUntil(database, place)
    const exchanges = await recordedExchanges(database, place)
    return {
      until: until?.toISOString() ?? null,
      exchanges: exchanges.length,
      har: harOf(exchanges, { name: 'Zephyr Bell', version: '0.1' }),
    }
  }
  api.serve('readGatewayRecording', ({ caller: { scope }, params }) => view(gatewayPlace(scope, params.platform)))
  api.serve('startGatewayRecording', async ({ caller: { scope }, params, body: { seconds } }) => {
    const place = gatewayPlace(scope, params.platform)
    await startRecording(database, place, seconds)
    return view(place)
  })
  api.serve('endGatewayRecording', async ({ caller: { scope }, params }) => {
    await endRecording(database, gatewayPlace(scope, params.platform))
    return undefined
  })
}

const versionView = ({ version, name, slot, asksFor, madeAt, madeBy }: ProfileRow): GatewayVersion => ({
  version,
  profile: name,
  state: slot ?? 'retired',
  asksFor: asksFor as GatewayVersion['asksFor'],
  madeAt: madeAt.toISOString(),
  madeBy,
})
