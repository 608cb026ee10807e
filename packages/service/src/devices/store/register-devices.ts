import { uuidFromBytes } from '@zbell/core'
import { sql } from 'drizzle-orm'
import type { Database, DeviceRow, Scope } from '../../database/index.ts'
import { ensureUsers } from './ensure-users.ts'
import { publishRegistered } from './publish-devices.ts'
import { bareDeviceColumns, findDevicesBySecrets } from './read-devices.ts'
import { insertion, type NewDevice, registerDevice } from './register-device.ts'

export type Registering = { readonly scope: Scope; readonly device: NewDevice }

export type Registered = {
  /** As it is stored afterwards; undefined when another registration of the same token came in between and counts. */
  readonly stored: DeviceRow | undefined
  /** The installation that the device has now. */
  readonly installation: string | null
}

/**
 * Registers many at once. Those that nobody knows go in by one statement for all of them; whoever is known already,
 * shows a secret, or comes twice, is registered on its own.
 * @returns for each what became of it, or the error
 */
export async function registerDevices(
  database: Database,
  all: readonly Registering[],
): Promise<PromiseSettledResult<Registered>[]> {
  const scopes = new Map<string, { scope: Scope; devices: NewDevice[] }>()
  for (const { scope, device } of all) {
    const name = `${scope.app.no} ${scope.environment}`
    const group = scopes.get(name) ?? { scope, devices: [] }
    group.devices.push(device)
    scopes.set(name, group)
  }
  const stored = new Map<string, DeviceRow>()
  for (const { scope, devices } of scopes.values())
    for (const row of await insertStrangers(database, scope, devices)) stored.set(row.id, row)
  return Promise.allSettled(
    all.map(async ({ scope, device }) => {
      const own = stored.get(device.id)
      if (own) return { stored: own, installation: device.installation }
      const { installation, secretHash } = await registerDevice(database, scope, device)
      const [row] = await findDevicesBySecrets(database, [secretHash])
      return { stored: row?.device, installation }
    }),
  )
}

type StoredDevice = Omit<DeviceRow, 'id' | 'muted' | 'userProved' | 'user'> & {
  readonly id: Buffer
  readonly muted: number
  readonly userProved: number
}

/** @returns the devices that nobody knew and that are stored now */
async function insertStrangers(
  database: Database,
  scope: Scope,
  all: readonly NewDevice[],
): Promise<readonly DeviceRow[]> {
  const seen = new Set<string>()
  const once = all.filter(({ address, installation, platform, shownHash }) => {
    if (shownHash !== null) return false
    const names = [
      `${platform} ${address.tokenHash.toString('latin1')}`,
      ...(installation === null ? [] : [installation]),
    ]
    const isNew = names.every((name) => !seen.has(name))
    for (const name of names) seen.add(name)
    return isNew
  })
  if (once.length < 2) return []
  const users = await ensureUsers(database, scope, [...new Set(once.flatMap(({ user }) => user ?? []))])
  const inserted = insertion(
    scope,
    once.map((device) => ({
      device,
      installation: device.installation,
      userNo: device.user === null ? null : users.get(device.user)!,
    })),
  )
  // Whoever is there already is left as it was, and comes back with another id than the one just made.
  const byId = new Map(once.map((device) => [device.id, device]))
  return database.transact(async (tx) => {
    const rows = await tx.rows<StoredDevice>(
      sql`${inserted} on duplicate key update no = no returning ${bareDeviceColumns}`,
    )
    const found = rows.flatMap(({ id: bytes, ...row }) => {
      const id = uuidFromBytes(bytes)
      const made = byId.get(id)
      return made
        ? [{ made, stored: { ...row, id, muted: row.muted === 1, userProved: row.userProved === 1, user: made.user } }]
        : []
    })
    await publishRegistered(
      tx,
      scope,
      found.map(({ made }) => made),
    )
    return found.map(({ stored }) => stored)
  })
}
