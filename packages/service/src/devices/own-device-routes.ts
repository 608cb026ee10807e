import { randomBytes } from 'node:crypto'
import { applicationServerKey, packAllowed, registrationRestSeconds, uuidV7 } from '@zbell/core'
import type { Api, RateLimits } from '../api/index.ts'
import { Batcher, invalid, Problem } from '../base/index.ts'
import { type Credential, credentialInUse, credentialPlace, vapidKeyOf } from '../credentials/index.ts'
import { type Database, type DeviceRow, type Scope, type Tx, type Where, whereOf } from '../database/index.ts'
import { hashSecret, newSecret, type Vault } from '../vault/index.ts'
import { type AddressRules, addressOf } from './device-address.ts'
import { deviceView } from './device-view.ts'
import { ProofRefused, type Proofs } from './proofs.ts'
import { changeDevice, TokenNotOwn, unregisterDevice } from './store/change-device.ts'
import { noteEvent } from './store/device-events.ts'
import { findDevice, findDevicesBySecrets } from './store/read-devices.ts'
import { Overtaken, RegisteredJustNow } from './store/register-device.ts'
import { type Registered, type Registering, registerDevices } from './store/register-devices.ts'

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

/** What an installed app asks for and says of itself. */
export function serveOwnDevice(api: Api, parts: DeviceParts): void {
  const { database, limits, onChange } = parts
  serveInstalledApp(api, parts)
  serveRegistration(api, parts)
  serveOwnChanges(api, parts)

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
function serveInstalledApp(api: Api, { database, vault, limits }: DeviceParts): void {
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
      }
    },
    limits.deviceCalls,
  )
}

function serveRegistration(api: Api, parts: DeviceParts): void {
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
      const userProved =
        known?.user !== facts.user && (await requireProof(proofs, scope, facts.user, proof, address.tokenHash))
      const secret = newSecret('device')
      const id = uuidV7(Date.now(), randomBytes(10))
      const settled = await registrar.add({
        scope,
        device: {
          ...facts,
          allows: allows && packAllowed(allows),
          id,
          platform,
          installation,
          address,
          secretHash: hashSecret(secret),
          shownHash: shown === undefined ? null : hashSecret(shown),
          userProved,
        },
      })
      if (settled.status === 'rejected') throw registrationProblem(settled.reason)
      const { stored, installation: kept } = settled.value
      onChange()
      // Another registration of the same token can have come in between; then that one's secret counts, not this one's.
      if (!stored)
        throw new Problem('register-again', 'The same token was registered by another call meanwhile, and that counts.')
      await noteBlocked(parts, scope, stored, blockedChannels)
      const keepsSecret = shown !== undefined && stored.secretHash.equals(hashSecret(shown))
      return { device: deviceView(stored), secret: keepsSecret ? shown : secret, installation: kept }
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

function serveOwnChanges(api: Api, parts: DeviceParts): void {
  const { database, limits, proofs, rules, onChange } = parts
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
      const holder = address?.tokenHash ?? device.tokenHash ?? device.secretHash
      const userProved = facts.user !== device.user && (await requireProof(proofs, scope, facts.user, proof, holder))
      try {
        await changeDevice(database, scope, device.no, {
          ...facts,
          allows: allows && packAllowed(allows),
          address,
          userProved,
        })
      } catch (error) {
        if (error instanceof TokenNotOwn) throw new Problem('register-again')
        throw error
      }
      await noteBlocked(parts, scope, device, blockedChannels)
      onChange()
      const changed = await findDevice(database, scope, device.id)
      if (!changed) throw new Problem('unknown-device')
      return deviceView(changed)
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

/** Signing out needs none. @returns whether it was proved who somebody is @throws {Problem} `proof-refused` */
async function requireProof(
  proofs: Proofs,
  scope: Scope,
  user: string | null | undefined,
  proof: string | undefined,
  holder: Buffer,
): Promise<boolean> {
  if (user === null || user === undefined) return false
  try {
    await proofs.check(scope, user, proof, holder)
    return proof !== undefined
  } catch (error) {
    if (error instanceof ProofRefused) throw new Problem('proof-refused', error.message)
    throw error
  }
}
