import { deviceEvents, isUuid, reasons } from '@zbell/core'
import { Problem } from '../../problems/problem.ts'
import type { Scope } from '../../store/apps/apps.ts'
import type { Database } from '../../store/database.ts'
import { recentDeliveries } from '../../store/deliveries/recent-deliveries.ts'
import { listEvents } from '../../store/devices/device-events.ts'
import { type DeviceRow, findDevice, listDevices } from '../../store/devices/read-devices.ts'
import { placeOf } from '../../store/in-order.ts'
import { topicsOf } from '../../store/people/topics.ts'
import type { OperationRouter } from '../serve-operation.ts'
import { deviceView, pageView, sortedPlace } from '../views.ts'

/** How much a device's record shows, and among how many of the app's notifications it looks for its own. */
const recordShows = 100
const recordLooksAt = 300

/** What an app's server and its owners see of the devices. */
export function serveDevices(on: OperationRouter, database: Database): void {
  on.serve('listDevices', async ({ caller, query }) => {
    const rows = await listDevices(database, caller.scope, {
      ...query,
      after: sortedPlace(query.after),
      limit: query.limit + 1,
    })
    return pageView(rows, query.limit, placeOf, deviceView)
  })

  on.serve('readDevice', async ({ caller, params }) => {
    return deviceView(await needDevice(database, caller.scope, params.id))
  })

  on.serve('readDeviceRecord', async ({ caller: { scope }, params }) => {
    const found = await needDevice(database, scope, params.id)
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
        says: reason && reasons[reason].says,
        at: at.toISOString(),
      })),
    }
  })
}

async function needDevice(database: Database, scope: Scope, id: string): Promise<DeviceRow> {
  const found = isUuid(id) ? await findDevice(database, scope, id) : undefined
  if (!found) throw new Problem('unknown-device')
  return found
}
