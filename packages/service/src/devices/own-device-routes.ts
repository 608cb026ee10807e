import { randomBytes } from 'node:crypto'
import { applicationServerKey, packAllowed, registrationRestSeconds, uuidV7 } from '@zbell/core'
import type { Api, RateLimits } from '../api/index.ts'
import { Batcher, invalid, Problem } from '../base/index.ts'
import { type Credential, credentialInUse, credentialPlace, vapidKeyOf } from '../credentials/index.ts'
import { type Database, type DeviceRow, type Scope, type Tx, type Where, whereOf } from '../database/index.ts'
import { hashSecret, newSecret, type Vault } from '../vault/index.ts'
import { type AddressRules, addressOf } from './device-address.ts'
import { deviceView } from './device-view.ts'
import { holderOf, type ProofRefused, type Proofs } from './proofs.ts'
import { changeDevice, TokenNotOwn, unregisterDevice } from './store/change-device.ts'
import { noteEvent } from './store/device-events.ts'
import { findDevice, findDevicesBySecrets } from './store/read-devices.ts'
import { Overtaken, RegisteredJustNow } from './store/register-device.ts'
import { type Registered, type Registering, registerDevices } from './store/register-devices.ts'
import { countRefusals, type Refused } from './store/user-refusals.ts'

type DeviceParts = {
  readonly database: Database
  readonly vault: Vault
  readonly limits: RateLimits
  readonly proofs: Proofs
  readonly rules: AddressRules
  readonly onChange: () => void
  /** Notes which channels the system of a device blocks. @returns whether it said something else before */
  readonly storeBlocked: (
    tx: Tx,
    where: Where,
    device: Pick<DeviceRow, 'no' | 'platform'>,
    names: readonly string[],
  ) => Promise<boolean>
}

/** The most registrations that go into one transaction. */
const registeredTogether = 200
/** The most refusals that are counted by one statement. */
const refusedTogether = 1_000

/** Whose the device is by its proof: nobody’s where that is refused. */
type UserCheck = (
  scope: Scope,
  user: string,
  proof: string | undefined,
  holder: Buffer,
) => Promise<{
  readonly user: string | null
  readonly proved: boolean
  /** The proof that was shown, to be bound to the device. */
  readonly shown: Buffer | undefined
  readonly refused: ProofRefused | null
}>

/** No proof is needed to be nobody’s, or whose it is already by its secret. */
const unasked = (user: string | null) => ({ user, proved: false, shown: undefined, refused: null })

/** What an installed app asks for and says of itself. */
export function serveOwnDevice(api: Api, parts: DeviceParts): void {
  const { database, limits, onChange } = parts
  serveInstalledApp(api, parts)
  const refusals = new Batcher<Refused, void>(async (all) => {
    await countRefusals(database, all)
    return all.map(() => undefined)
  }, refusedTogether)
  const checkUser: UserCheck = async (scope, user, proof, holder) => {
    const checked = await parts.proofs.check(scope, user, proof, holder)
    if (!('refused' in checked)) return { user, proved: proof !== undefined, shown: checked.shown, refused: null }
    await refusals.add({ scope, code: checked.refused.code })
    return { user: null, proved: false, shown: undefined, refused: checked.refused }
  }
  serveRegistration(api, parts, checkUser)
  serveOwnChanges(api, parts, checkUser)

  api.serve(
    'unregisterOwnDevice',
    async ({ caller: { device } }) => {
      await unregisterDevice(database, device.no)
      onChange()
      return undefined
    },
    limits.deviceCalls,
  )

  api.serve('readOwnDevice', async ({ caller }) => deviceView(caller.device), limits.deviceCalls)
}

/** What an app may know before its device is registered. */
function serveInstalledApp(api: Api, { database, vault, limits, proofs }: DeviceParts): void {
  api.serve(
    'readInstalledApp',
    async ({ caller: { scope } }) => {
      const row = await credentialInUse(database, scope.app.no, scope.environment, 'web')
      const credential =
        row &&
        (JSON.parse(
          vault.open(row.sealed, credentialPlace(scope.app.no, scope.environment, 'web')).toString(),
        ) as Credential)
      return {
        app: scope.app.slug,
        name: scope.app.name,
        environment: scope.environment,
        applicationServerKey:
          credential?.kind === 'vapid-key' ? applicationServerKey(vapidKeyOf(credential.jwk)) : null,
        requireProof: await proofs.isRequired(scope),
      }
    },
    limits.deviceCalls,
  )
}

function serveRegistration(api: Api, parts: DeviceParts, checkUser: UserCheck): void {
  const { database, limits, proofs, rules, onChange } = parts
  // A wave of installations that register at once goes in together.
  const registrar = new Batcher<Registering, PromiseSettledResult<Registered>>(
    (all) => registerDevices(database, all),
    registeredTogether,
  )

  api.serve(
    'registerDevice',
    async ({ caller: { scope }, body }) => {
      const { platform, installation = null, secret: shown, proof, allows, blockedChannels, ...facts } = body
      const address = await addressOf(
        rules,
        scope,
        body.platform === 'web' ? { subscription: body.subscription } : { token: body.token },
      )
      // Who shows the secret of a device that is this user's already has proved it before.
      const known = shown === undefined ? undefined : await ownOf(database, scope, shown)
      const holder = known
        ? holderOf({ device: known.id })
        : holderOf({ installation: installation ?? address.tokenHash.toString('hex') })
      const {
        user,
        proved,
        shown: shownProof,
        refused,
      } = facts.user === null || known?.user === facts.user
        ? unasked(facts.user)
        : await checkUser(scope, facts.user, proof, holder)
      const secret = newSecret('device')
      const id = uuidV7(Date.now(), randomBytes(10))
      const settled = await registrar.add({
        scope,
        device: {
          ...facts,
          user,
          allows: allows && packAllowed(allows),
          id,
          platform,
          installation,
          address,
          secretHash: hashSecret(secret),
          shownHash: shown === undefined ? null : hashSecret(shown),
          userProved: proved,
        },
      })
      if (settled.status === 'rejected') throw registrationProblem(settled.reason)
      const { stored, installation: kept } = settled.value
      onChange()
      // Another registration of the same token can have come in between; then that one's secret counts, not this one's.
      if (!stored)
        throw new Problem('register-again', 'The same token was registered by another call meanwhile, and that counts.')
      if (shownProof) await proofs.bind(shownProof, holder, stored.id)
      await noteBlocked(parts, scope, stored, blockedChannels)
      const keepsSecret = shown !== undefined && stored.secretHash.equals(hashSecret(shown))
      return {
        device: deviceView(stored),
        userRefused: refused,
        secret: keepsSecret ? shown : secret,
        installation: kept,
      }
    },
    limits.registrations,
  )
}

function registrationProblem(error: unknown): unknown {
  if (error instanceof Overtaken) return new Problem('register-again')
  if (!(error instanceof RegisteredJustNow)) return error
  return new Problem(
    'register-again',
    `This token or installation registered within the last ${registrationRestSeconds} seconds, and the call does not show its secret.`,
  )
}

function serveOwnChanges(api: Api, parts: DeviceParts, checkUser: UserCheck): void {
  const { database, limits, rules, onChange } = parts
  api.serve(
    'changeOwnDevice',
    async ({ caller: { scope, device }, body }) => {
      const { token, subscription, proof, allows, blockedChannels, ...facts } = body
      const given = device.platform === 'web' ? { subscription } : { token }
      if (device.platform === 'web' && token !== undefined)
        throw invalid('/token', 'does not belong to a web device; send subscription')
      if (device.platform !== 'web' && subscription !== undefined)
        throw invalid('/subscription', `does not belong to an ${device.platform} device; send token`)
      const address =
        given.token === undefined && given.subscription === undefined ? undefined : await addressOf(rules, scope, given)
      const named = facts.user
      const checked =
        named === undefined || named === null || named === device.user
          ? undefined
          : await checkUser(scope, named, proof, holderOf({ device: device.id }))
      try {
        await changeDevice(database, scope, device.no, {
          ...facts,
          ...(checked && { user: checked.user }),
          allows: allows && packAllowed(allows),
          address,
          userProved: checked?.proved ?? false,
        })
      } catch (error) {
        if (error instanceof TokenNotOwn) throw new Problem('register-again')
        throw error
      }
      await noteBlocked(parts, scope, device, blockedChannels)
      onChange()
      const changed = await findDevice(database, scope, device.id)
      if (!changed) throw new Problem('unknown-device')
      return { ...deviceView(changed), userRefused: checked?.refused ?? null }
    },
    limits.deviceCalls,
  )
}

/** Which channels the system blocks, where the device tells. */
async function noteBlocked(
  { database, storeBlocked }: Pick<DeviceParts, 'database' | 'storeBlocked'>,
  scope: Scope,
  device: Pick<DeviceRow, 'no' | 'platform'>,
  names: readonly string[] | undefined,
): Promise<void> {
  if (names === undefined) return
  await database.transact(async (tx) => {
    if (!(await storeBlocked(tx, whereOf(scope), device, names))) return
    await noteEvent(
      tx,
      device.no,
      names.length > 0 ? 'channel-blocked' : 'channel-allowed',
      names.join(', ').slice(0, 200),
    )
  })
}

async function ownOf(database: Database, scope: Scope, secret: string): Promise<DeviceRow | undefined> {
  const [found] = await findDevicesBySecrets(database, [hashSecret(secret)])
  const isHere = found?.app.no === scope.app.no && found.device.environment === scope.environment
  return isHere ? found.device : undefined
}
