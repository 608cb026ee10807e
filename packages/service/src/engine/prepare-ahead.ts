import { Renderer, readerOf } from '@zbell/core'
import type { Notification } from './notification.ts'
import { OpenClients } from './open-clients.ts'
import type { Gateways } from './ports.ts'
import type { BlockDevice } from './work.ts'

/** What a block starts with: its texts read, its clients open, its requests prepared, as far as that could be done. */
export type Ahead = { readonly renderer: Renderer; readonly clients: OpenClients }

/** With more devices there is nobody who would notice. */
const fewDevices = 20

/**
 * Makes ready what a few people are to get, while the database still stores that they will: a person waits for it.
 * Whatever does not work out here is met again by the sending, which deals with it.
 */
export async function prepareAhead(
  notification: Omit<Notification, 'no'>,
  devices: readonly BlockDevice[],
  gateways: Gateways,
): Promise<Ahead> {
  const renderer = new Renderer(notification.content, notification.filling)
  const clients = new OpenClients(notification, gateways)
  if (devices.length > fewDevices || renderer.personal.size > 0) return { renderer, clients }
  for (const device of devices) {
    const rendered = renderer.render(readerOf(device, {}))
    if (rendered.is === 'missing') continue
    const open = await clients.openAhead(device)
    if (open) await clients.prepare(open, rendered, 0)
  }
  return { renderer, clients }
}
