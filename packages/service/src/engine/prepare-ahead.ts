import { isHandsetAddress, type Platform, type Reason, Renderer, readerOf } from '@zbell/core'
import type { Notification } from './notification.ts'
import type { Gateways, Lane, Shipment } from './ports.ts'
import { sendable } from './sendable.ts'
import type { BlockDevice } from './work.ts'

/** One platform's way out: the places on its lane, and each distinct content made ready once. */
export type Exit = {
  readonly lane: Lane
  readonly shipments: Map<string, Shipment>
  readonly platform: Platform
  readonly rehearsal: boolean
  /** Whether the gateway took anything of this block. */
  accepted: boolean
}
export type Exits = Map<string, Exit | Reason | 'fault'>

/** What a block starts with: its texts read, its ways out open, its requests shaped, as far as that could be done. */
export type Ahead = { readonly renderer: Renderer; readonly exits: Exits }

/** With more devices there is nobody who would notice. */
const fewDevices = 20

export const exitName = (platform: Platform, rehearsal: boolean): string =>
  rehearsal ? `${platform} rehearsal` : platform

/**
 * Makes ready what a few people are to get, while the database still stores that they will: a person waits for it.
 * Whatever does not work out here is met again by the sending, which deals with it.
 */
export async function prepareAhead(
  notification: Omit<Notification, 'no'>,
  devices: readonly BlockDevice[],
  gateways: Gateways,
): Promise<Ahead> {
  const { content, filling, appNo, environment } = notification
  const renderer = new Renderer(content, filling)
  const exits: Exits = new Map()
  if (devices.length > fewDevices || renderer.personal.size > 0) return { renderer, exits }
  for (const device of devices) {
    const rendered = renderer.render(readerOf(device, {}))
    if (rendered.is === 'missing') continue
    const rehearsal = isHandsetAddress(device.token)
    const name = exitName(device.platform, rehearsal)
    let exit = exits.get(name)
    if (exit === undefined) {
      const lane = await gateways.lane(appNo, environment, device.platform, rehearsal)
      if (typeof lane === 'string') continue
      exit = { lane, shipments: new Map(), platform: device.platform, rehearsal, accepted: false }
      exits.set(name, exit)
    }
    if (typeof exit !== 'object' || exit.shipments.has(rendered.name)) continue
    exit.shipments.set(rendered.name, await exit.lane.prepare(sendable(notification, rendered.content, 0)))
  }
  return { renderer, exits }
}
