import type { Notification as NotificationView } from '@zbell/contract'
import type { Response } from 'express'
import { type Api, callerAddress } from '../../api/index.ts'
import { Batcher, type Metrics, Problem } from '../../base/index.ts'
import type { Database, Scope } from '../../database/index.ts'
import { deliveryView, listDeliveries } from '../../deliveries/index.ts'
import type { Notification } from '../../engine/index.ts'
import { notificationsByNo, notificationViews, requireNotification } from '../../notifications/index.ts'
import { ChangeSender } from './change-sender.ts'
import type { LiveHub } from './hub.ts'

/** Up to so many devices a watched notification tells of each; above it only of the totals. */
const eachDeviceUpTo = 200
const heartbeatMs = 15_000
const maxStreams = 500
/** So many of them one key or account may have, and one address, so that nobody takes all. */
const maxOfOne = 100
const maxOfAddress = 250
/** Whoever does not read is let go when so much waits for them. */
const maxWaitingBytes = 1_048_576

type Stream = { readonly holder: string; readonly stillMay: () => Promise<boolean> }

export class EventStreams {
  readonly #open = new Map<Response, Stream>()
  readonly #metrics: Metrics

  constructor(metrics: Metrics) {
    this.#metrics = metrics
  }

  /**
   * Makes an answer a stream of server-sent events (WHATWG HTML §9.2).
   * @param holder whose stream it is: a key or an account
   * @param stillMay asked at every heartbeat; the stream ends when the listener may not any more
   * @returns what sends one event
   */
  start(response: Response, { holder, stillMay }: Stream, onClose: () => void): (event: string, data: unknown) => void {
    // Whoever left while they were being recognised will never be heard to leave again.
    if (response.closed || response.destroyed) {
      queueMicrotask(onClose)
      return () => {}
    }
    if (this.#open.size >= maxStreams)
      throw new Problem('too-many-requests', `No more than ${maxStreams} event streams are kept open.`)
    if ([...this.#open.values()].filter((one) => one.holder === holder).length >= maxOfOne)
      throw new Problem(
        'too-many-requests',
        `No more than ${maxOfOne} event streams of one key or account are kept open.`,
      )
    const address = callerAddress(response)
    if ([...this.#open.keys()].filter((one) => callerAddress(one) === address).length >= maxOfAddress)
      throw new Problem('too-many-requests', `No more than ${maxOfAddress} event streams of one address are kept open.`)
    response.writeHead(200, {
      'content-type': 'text/event-stream',
      'cache-control': 'no-store',
      'x-accel-buffering': 'no',
    })
    // Whoever only asks for the head has had all.
    if (response.req.method === 'HEAD') {
      response.end()
      queueMicrotask(onClose)
      return () => {}
    }
    this.#open.set(response, { holder, stillMay })
    this.#metrics.listeners.set(this.#open.size)
    const write = (text: string) => {
      if (response.writableLength > maxWaitingBytes) response.destroy()
      else response.write(text)
    }
    write(': here\n\n')
    const heartbeat = setInterval(() => {
      write(': here\n\n')
      void this.#endUnless(response, stillMay)
    }, heartbeatMs)
    response.once('close', () => {
      clearInterval(heartbeat)
      this.#open.delete(response)
      this.#metrics.listeners.set(this.#open.size)
      onClose()
    })
    return (event, data) => write(`event: ${event}\ndata: ${JSON.stringify(data)}\n\n`)
  }

  /** A key was revoked here: whoever listens with it is heard out at once. */
  recheck(): void {
    for (const [response, { stillMay }] of this.#open) void this.#endUnless(response, stillMay)
  }

  async #endUnless(response: Response, stillMay: () => Promise<boolean>): Promise<void> {
    if (!(await stillMay())) response.end()
  }

  close(): void {
    for (const response of this.#open.keys()) response.end()
  }
}

const holderOf = ({ app, environment }: Scope, actor: string): string => `${app.no} ${environment} ${actor}`

export function serveEvents(
  api: Api,
  database: Database,
  hub: LiveHub,
  streams: EventStreams,
  onFault: (error: unknown) => void,
): void {
  // What many watch is read once for all of them.
  const changed = new Batcher<Watched, Changed | undefined>((all) => readChanged(database, all), maxReadTogether)

  api.serve('watchNotification', async ({ caller: { scope, actor }, params, response, stillMay }) => {
    const { no } = await requireNotification(database, scope, params.id)
    const told = new Map<number, string>()
    let stop = () => {}
    const send = streams.start(response, { holder: holderOf(scope, actor), stillMay }, () => stop())
    const sender = new ChangeSender(async () => {
      const now = await changed.add({ scope, no })
      if (now) await tellNotification(database, now, told, send)
    }, onFault)
    const unlisten = hub.listen(scope, (change) => {
      if (change.is === 'notification' && change.no === no) sender.add(no)
    })
    stop = () => {
      unlisten()
      sender.close()
    }
    sender.add(no)
    return undefined
  })

  api.serve('watchApp', async ({ caller: { scope, actor }, response, stillMay }) => {
    let stop = () => {}
    const send = streams.start(response, { holder: holderOf(scope, actor), stillMay }, () => stop())
    const sender = new ChangeSender(async (no) => {
      const now = await changed.add({ scope, no })
      if (now) send('notification', now.view)
    }, onFault)
    const unlisten = hub.listen(scope, (change) => {
      if (change.is === 'devices') send('devices', { changed: true })
      else sender.add(change.no)
    })
    stop = () => {
      unlisten()
      sender.close()
    }
    return undefined
  })
}

type Watched = { readonly scope: Scope; readonly no: number }
type Changed = { readonly row: Notification; readonly view: NotificationView }
const maxReadTogether = 200

/** Notifications as they are now, of each app and environment at once; each is read once, however many watch it. */
async function readChanged(database: Database, all: readonly Watched[]): Promise<(Changed | undefined)[]> {
  const rows = await notificationsByNo(database, [...new Set(all.map(({ no }) => no))])
  const byNo = new Map<number, Changed>()
  for (const scope of new Map(all.map((one) => [`${one.scope.app.no} ${one.scope.environment}`, one.scope])).values()) {
    const own = rows.filter(({ appNo, environment }) => appNo === scope.app.no && environment === scope.environment)
    const views = await notificationViews(database, scope, own)
    for (const [at, row] of own.entries()) byNo.set(row.no, { row, view: views[at]! })
  }
  return all.map(({ no }) => byNo.get(no))
}

/** Deliveries first, the totals last: whoever reads that all is done has read of each. */
async function tellNotification(
  database: Database,
  { row, view }: Changed,
  told: Map<number, string>,
  send: (event: string, data: unknown) => void,
): Promise<void> {
  if (view.totals.expanded <= eachDeviceUpTo) {
    for (const delivery of await listDeliveries(database, row, { limit: eachDeviceUpTo })) {
      const text = JSON.stringify(deliveryView(delivery))
      if (told.get(delivery.deviceNo) === text) continue
      told.set(delivery.deviceNo, text)
      send('delivery', deliveryView(delivery))
    }
  }
  send('notification', view)
}
