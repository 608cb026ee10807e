import { readFileSync } from 'node:fs'
import {
  type Environment,
  type Evaluate,
  evaluator,
  type GatewayProfile,
  originsOf,
  type Platform,
  ProfileAtFault,
} from '@zbell/core'
import { LRUCache } from 'lru-cache'
import { parseDocument } from 'yaml'
import { type Config, ConfigError } from '../base/index.ts'
import type { Database, GatewayPlace } from '../database/index.ts'
import {
  EvaluationFailed,
  type EvaluationLimits,
  type EvaluationOwner,
  EvaluationsBusy,
  type EvaluatorPool,
} from '../evaluation/index.ts'
import { type AddressGuard, AddressNotAllowed, anywhere, publicOnly } from '../net/index.ts'
import { atTop, type Linted, lintRead, type ProfileFault, tooLong } from './lint-profile.ts'
import { loadProfile } from './load-profile.ts'
import { type ReadyProfile, readyProfile } from './ready-profile.ts'
import { outdatingProfiles, type ProfileRow, profileNoInUse, profilesInPlace } from './store/profiles.ts'

/** A profile as an app uses it: its own, or the one that the configuration names for all. */
export type UsedProfile = ReadyProfile & {
  /** Of the app's own; null for the configuration's. */
  readonly version: number | null
  /** As it was written. */
  readonly text: string
  /** Where its gateway is in an environment; none when it has none there. */
  origins(environment: Environment): readonly string[]
  /** What stands for it: another one stands for another profile. */
  readonly signature: string
}

/** What an app wrote cannot be its profile. */
export class ProfileRefused extends Error {
  override readonly name = 'ProfileRefused'
  readonly faults: readonly ProfileFault[]

  constructor(faults: readonly ProfileFault[]) {
    super(faults[0]?.says ?? 'the gateway profile cannot be used')
    this.faults = faults
  }
}

const ownerOf = ({ appNo, environment, platform }: GatewayPlace): EvaluationOwner => ({
  appNo,
  use: `gateway ${environment} ${platform}`,
})

/** So many apps' own profiles are kept ready. */
const maxReady = 500

/** A client whose expression was stopped leaves the evaluators to others for a while. */
const limits: EvaluationLimits = { maxWaiting: 5_000, maxCharacters: 1_100_000, backoffMs: 30_000, maxTries: 1 }

/** The gateway profiles: of apps, and those that the configuration names for apps without one. */
export class Profiles {
  readonly #database: Database
  readonly #guard: AddressGuard
  readonly #evaluators: EvaluatorPool
  readonly #configured: ReadonlyMap<Platform, UsedProfile>
  readonly #ready = new LRUCache<number, UsedProfile>({ max: maxReady })

  /** @throws {ConfigError} when a profile that the configuration names cannot be used */
  constructor(config: Config, database: Database, evaluators: EvaluatorPool) {
    this.#database = database
    this.#evaluators = evaluators
    this.#guard = config['gateways.allowPrivateAddresses'] ? anywhere : publicOnly
    this.#configured = new Map((['ios', 'android'] as const).flatMap((platform) => configured(config, platform)))
  }

  /** What an app uses; its own before the configuration's. */
  async of(place: GatewayPlace): Promise<UsedProfile | undefined> {
    const no = await profileNoInUse(this.#database, place)
    if (no === undefined) return this.#configured.get(place.platform)
    const known = this.#ready.get(no)
    if (known) return known
    const row = (await profilesInPlace(this.#database, place)).find((one) => one.no === no)
    // Changed in between: whoever asks next sees what it is now.
    return row ? this.#keep(place, row) : this.of(place)
  }

  async #keep(place: GatewayPlace, row: ProfileRow): Promise<UsedProfile | undefined> {
    const { profile } = await this.lint(ownerOf(place), row.text)
    // One that an earlier version took and this one does not; there is no way then.
    if (!profile) return undefined
    const used = { ...this.#usedBy(place, profile, row.text), version: row.version, signature: `own ${row.no}` }
    this.#ready.set(row.no, used)
    return used
  }

  /** Where the profiles of an app lead that are in use or wait. */
  async originsOf(place: GatewayPlace): Promise<readonly string[]> {
    const rows = await profilesInPlace(this.#database, place)
    const own = await Promise.all(
      rows.map(async ({ text }) => {
        const { profile } = await this.lint(ownerOf(place), text)
        return profile ? originsIn(profile, place.environment) : []
      }),
    )
    return [...new Set(own.flat())]
  }

  /** A credential may not go where a profile leads. @throws {ProfileRefused} */
  refuseUnbound({ text }: UsedProfile, origin: string): never {
    const says = `origins: the credential in use was not added for ${origin}. Save the profile without using it, add the credential again, and put the profile in use; or let the operator save it`
    throw new ProfileRefused([faultAt(text, 'origins', says)])
  }

  /**
   * Where a profile leads that a credential may not go to: not added for that origin, which the operator’s configuration does
   * not name either.
   */
  async unboundOrigin(
    place: GatewayPlace,
    used: UsedProfile,
    credential: { readonly origins: readonly string[] | null },
  ): Promise<string | undefined> {
    const { platform, environment } = place
    // One that was stored by an earlier version goes where the profile in use leads.
    const bound = credential.origins ?? (await this.of(place))?.origins(environment) ?? []
    const named = this.#configured.get(platform)?.origins(environment) ?? []
    return used.origins(environment).find((origin) => !bound.includes(origin) && !named.includes(origin))
  }

  /** Reads what an app wrote, in a process of its own: a file can be made so that it takes for ever. */
  async lint(owner: EvaluationOwner, text: string): Promise<Linted> {
    const long = tooLong(text)
    if (long) return long
    try {
      return lintRead(
        text,
        await this.#evaluators.run({ appNo: owner.appNo, use: `lint ${owner.use}` }, limits, 'yaml', { text }),
      )
    } catch (error) {
      if (!(error instanceof EvaluationFailed || error instanceof EvaluationsBusy)) throw error
      return atTop(`the profile cannot be read: reading it ${error.message}`)
    }
  }

  /**
   * What an app wrote, made ready before anybody keeps it.
   * @throws {ProfileRefused}
   */
  async written(place: GatewayPlace, text: string): Promise<UsedProfile> {
    const { profile, faults } = await this.lint(ownerOf(place), text)
    if (!profile) throw new ProfileRefused(faults)
    const refuse = (at: string, says: string): never => {
      throw new ProfileRefused([faultAt(text, at, says)])
    }
    if (profile.platform !== place.platform)
      refuse('platform', `platform: this profile is for ${profile.platform}, not for ${place.platform}`)
    if (profile.caFile !== undefined)
      refuse('caFile', 'caFile: names a file of the service’s own machine; put the certificates under ca')
    if (originsOf(profile, place.environment).length === 0)
      refuse('origins', `origins: has none for ${place.environment}`)
    for (const origin of originsOf(profile, place.environment)) {
      try {
        this.#guard.check(new URL(origin))
      } catch (error) {
        if (!(error instanceof AddressNotAllowed)) throw error
        refuse('origins', `origins: ${error.message}; the operator can allow private networks`)
      }
    }
    return this.#usedBy(place, profile, text)
  }

  #usedBy(place: GatewayPlace, profile: GatewayProfile, text: string): UsedProfile {
    return {
      ...readyProfile(profile, { evaluate: this.#evaluateFor(ownerOf(place)), guard: this.#guard }),
      version: null,
      text,
      origins: (environment) => originsIn(profile, environment),
      signature: '',
    }
  }

  /** All in use that say when they will be outdated. */
  async outdating(): Promise<{ readonly platform: Platform; readonly name: string; readonly outdatedFrom: string }[]> {
    const named = [...this.#configured.entries()].flatMap(([platform, { profile }]) =>
      profile.outdatedFrom === undefined
        ? []
        : [{ platform, name: profile.profile, outdatedFrom: profile.outdatedFrom }],
    )
    return [...named, ...(await outdatingProfiles(this.#database))]
  }

  /** What an app wrote is evaluated elsewhere, bounded. */
  #evaluateFor(owner: EvaluationOwner): Evaluate {
    return async (expressions, input) => {
      try {
        const json = JSON.stringify(input)
        const output = await this.#evaluators.run(owner, limits, 'jsonata', { expressions, json })
        return output.is === 'results' ? output.results.map((text) => text ?? undefined) : []
      } catch (error) {
        if (error instanceof EvaluationFailed || error instanceof EvaluationsBusy)
          throw new ProfileAtFault(`an expression ${error.message}`)
        throw error
      }
    }
  }
}

/** A fault at a member of a profile: at the first line that begins with its name. */
function faultAt(text: string, member: string, says: string): ProfileFault {
  const line = text.split('\n').findIndex((one) => new RegExp(`^["']?${member}["']?\\s*:`).test(one)) + 1
  return { line: Math.max(1, line), column: 1, says }
}

const originsIn = (profile: GatewayProfile, environment: Environment): string[] =>
  originsOf(profile, environment).map((one) => new URL(one).origin)

/** As an app could keep it: with the certificates and the origin that the configuration gives it. */
function withoutFiles(text: string, origin: string, ca: readonly string[]): string {
  if (origin === '' && ca.length === 0) return text
  const document = parseDocument(text)
  if (origin !== '') document.set('origins', { development: origin, production: origin })
  if (ca.length > 0) {
    document.delete('caFile')
    document.set('ca', ca.join('\n'))
  }
  return document.toString()
}

/** The operator's own: they may lead anywhere, and are evaluated where they are needed. */
function configured(config: Config, platform: 'ios' | 'android'): [Platform, UsedProfile][] {
  const file = config[`gateways.${platform}.profile`]
  if (file === '') return []
  const { profile, ca } = loadProfile(file)
  if (profile.platform !== platform)
    throw new ConfigError(`${file}: this profile is for ${profile.platform}, not for ${platform}`)
  const instead = config[`gateways.${platform}.origin`]
  const used: UsedProfile = {
    ...readyProfile(profile, { evaluate: evaluator(), guard: anywhere, ca }),
    version: null,
    text: withoutFiles(readFileSync(file, 'utf8'), instead, ca),
    origins: (environment) =>
      (instead === '' ? originsOf(profile, environment) : [instead]).map((one) => new URL(one).origin),
    signature: 'configured',
  }
  return [[platform, used]]
}
