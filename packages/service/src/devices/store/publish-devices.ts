import { type DeviceEvent, type Environment, uuidFromBytes } from '@zbell/core'
import type { EventKind } from '@zbell/core/webhooks'
import { sql } from 'drizzle-orm'
import { type Scope, type Tx, type Where, whereOf } from '../../database/index.ts'
import { type Fact, publish } from '../../events/index.ts'

type Device = {
  readonly id: Buffer
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
  const [device] = await tx.rows<Device & { appNo: number; environment: Environment }>(
    sql`select v.id, v.platform, v.permission, u.name as user, v.app_no as appNo, v.environment
        from devices v left join users u on u.no = v.user_no where v.no = ${deviceNo}`,
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
    const devices = await tx.rows<Device>(
      sql`select v.id, v.platform, v.permission, u.name as user from devices v left join users u on u.no = v.user_no
          where v.no in ${deviceNos} and v.retired_at is null`,
    )
    return devices.map((device) => factOf('device.retired', device, { reason }))
  })

const factOf = (kind: EventKind, { id, platform, user }: Device, more: object): Fact => {
  const device = uuidFromBytes(id)
  return { kind, subject: device, data: { device, platform, user, ...more } }
}

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
