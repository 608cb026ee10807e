import type { DeviceEvent } from '@zbell/core'
import type { EventKind } from '@zbell/core/webhooks'
import { sql } from 'drizzle-orm'
import {
  devices as devicesTable,
  type Scope,
  select,
  type Tx,
  users,
  type Where,
  whereOf,
} from '../../database/index.ts'
import { type Fact, publish } from '../../events/index.ts'

type Device = {
  readonly id: string
  readonly platform: string
  readonly permission: string
  readonly user: string | null
}

const kindOf: { readonly [Event in DeviceEvent]?: EventKind } = {
  permission: 'device.permission',
  revived: 'device.revived',
  unregistered: 'device.retired',
  'token-moved': 'device.retired',
}

/** What happened to a device, as far as anybody else may want to know of it. */
export async function publishDeviceEvent(tx: Tx, deviceNo: number, event: DeviceEvent): Promise<void> {
  const kind = kindOf[event]
  if (!kind) return
  const [device] = await select(
    tx,
    {
      id: devicesTable.id,
      platform: devicesTable.platform,
      permission: devicesTable.permission,
      user: users.name,
      appNo: devicesTable.appNo,
      environment: devicesTable.environment,
    },
    sql`from ${devicesTable} left join ${users} on ${users.no} = ${devicesTable.userNo}
        where ${devicesTable.no} = ${deviceNo}`,
  )
  if (!device) return
  const more =
    kind === 'device.permission'
      ? { permission: device.permission }
      : kind === 'device.retired'
        ? { reason: event }
        : {}
  await publish(tx, device, [kind], () => [factOf(kind, device, more)])
}

/** Devices that are gone, before they are retired. */
export const publishRetired = (
  tx: Tx,
  where: Where,
  deviceNos: readonly number[],
  reason: 'token-gone' | 'push-service-silent',
): Promise<void> =>
  publish(tx, where, ['device.retired'], async () => {
    const devices = await select(
      tx,
      { id: devicesTable.id, platform: devicesTable.platform, permission: devicesTable.permission, user: users.name },
      sql`from ${devicesTable} left join ${users} on ${users.no} = ${devicesTable.userNo}
          where ${devicesTable.no} in ${deviceNos} and ${devicesTable.retiredAt} is null`,
    )
    return devices.map((device) => factOf('device.retired', device, { reason }))
  })

const factOf = (kind: EventKind, { id: device, platform, user }: Device, more: object): Fact => ({
  kind,
  subject: device,
  data: { device, platform, user, ...more },
})

/** What is told of a device that nobody knew. */
export type Registered = {
  readonly id: string
  readonly platform: string
  readonly user: string | null
  readonly permission: string
  readonly locale: string | null
  readonly timeZone: string | null
  readonly appVersion: string | null
  readonly systemVersion: string | null
  readonly model: string | null
}

export const publishRegistered = (tx: Tx, scope: Scope, devices: readonly Registered[]): Promise<void> =>
  publish(tx, whereOf(scope), ['device.registered'], () =>
    devices.map(({ id: device, platform, user, permission, locale, timeZone, appVersion, systemVersion, model }) => ({
      kind: 'device.registered',
      subject: device,
      data: { device, platform, user, permission, locale, timeZone, appVersion, systemVersion, model },
    })),
  )
