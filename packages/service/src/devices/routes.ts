import { type DeliveryState, deviceEvents, isUuid, type Reason, reasons } from '@zbell/core'
import { type Api, pageView, sortedPlace } from '../api/index.ts'
import { Problem } from '../base/index.ts'
import { type Database, type DeviceRow, placeOf, type Scope } from '../database/index.ts'
import { deviceView } from './device-view.ts'
import { listEvents } from './store/device-events.ts'
import { findDevice, listDevices } from './store/read-devices.ts'

/** What a notification became on a device. */
export type RecentDelivery = {
  readonly notification: string
  readonly title: string
  readonly state: DeliveryState
  readonly reason: Reason | null
  readonly at: Date
}

/** How much a device's record shows, and among how many of the app's notifications it looks for its own. */
const recordShows = 100
const recordLooksAt = 300

/** What an app's server and its owners see of the devices. */
export function serveDevices(
  api: Api,
  database: Database,
  {
    topicsOf,
    recentDeliveries,
  }: {
    readonly topicsOf: (
      database: Database,
      device: DeviceRow,
    ) => Promise<readonly { readonly name: string; readonly joinedAt: Date }[]>
    readonly recentDeliveries: (
      database: Database,
      scope: Scope,
      deviceNo: number,
      among: number,
    ) => Promise<readonly RecentDelivery[]>
  },
): void {
  api.serve('listDevices', async ({ caller, query }) => {
    const rows = await listDevices(database, caller.scope, {
      ...query,
      after: sortedPlace(query.after),
      limit: query.limit + 1,
    })
    return pageView(rows, query.limit, placeOf, deviceView)
  })

  api.serve('readDevice', async ({ caller, params }) => {
    return deviceView(await requireDevice(database, caller.scope, params.id))
  })

  api.serve('readDeviceRecord', async ({ caller: { scope }, params }) => {
    const found = await requireDevice(database, scope, params.id)
    return {
      events: (await listEvents(database, found.no, recordShows)).map(({ event, at, detail }) => ({
        event,
        says: deviceEvents[event].says,
        detail,
        at: at.toISOString(),
      })),
      topics: (await topicsOf(database, found)).map(({ name, joinedAt }) => ({
        topic: name,
        joinedAt: joinedAt.toISOString(),
      })),
      deliveries: (await recentDeliveries(database, scope, found.no, recordLooksAt)).map(({ reason, at, ...one }) => ({
        ...one,
        detail: reason && reasons[reason].detail,
        at: at.toISOString(),
      })),
    }
  })
}

async function requireDevice(database: Database, scope: Scope, id: string): Promise<DeviceRow> {
  const found = isUuid(id) ? await findDevice(database, scope, id) : undefined
  if (!found) throw new Problem('unknown-device')
  return found
}
