import { randomBytes } from 'node:crypto'
import { mkdtempSync, rmSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { setTimeout as wait } from 'node:timers/promises'
import { Client } from '@zbell/contract/client'
import { Agent } from 'undici'
import { type Figure, figure } from './figure.ts'
import { app, House } from './house.ts'
import { openNghttpd } from './nghttpd.ts'

/** How many devices a broadcast has; with `BENCH_DEVICES=1000000` it is one turn, and nothing goes alone. */
const count = Number(process.env.BENCH_DEVICES ?? 100_000)
const isLarge = count > 200_000
const turns = isLarge ? 1 : 3
/** Requests of the bare loop. */
const single = 20_000
const params = { app, webhook: 'app' }

/**
 * What it costs a broadcast that the app’s own server hears of each delivery, in batches of a thousand, by turns with one of which
 * nobody hears; how many events a second one receiver hears alone, beside a bare loop that posts the same; and how late it
 * hears of what happens a hundred times a second.
 */
export async function webhooks(): Promise<Figure[]> {
  const dir = mkdtempSync(join(tmpdir(), 'bell-webhooks-'))
  const nghttpd = await openNghttpd(dir)
  const house = await House.open(nghttpd.ready)
  try {
    const receiver = await house.startReceiver()
    await house.fillDevices(house.mintTokens(count))
    const save = (body: object) =>
      house.backend.call('saveWebhook', { params, body: { url: receiver, ...body } as never })
    const untold: Sent[] = []
    const told: Sent[] = []
    let heard = 0
    await save({ kinds: ['delivery.*'], batch: 1_000, enabled: false })
    if (!isLarge) await send(house)
    for (let turn = 0; turn < turns; turn++) {
      untold.push(await send(house))
      await house.backend.call('changeWebhook', { params, body: { enabled: true } })
      told.push(await send(house))
      heard += count
      await hears(receiver, heard)
      await house.backend.call('changeWebhook', { params, body: { enabled: false } })
    }
    const broadcasts = [
      figure('webhooks-broadcast', median(told, 'perSecond'), 'devices/s', median(untold, 'perSecond')),
      figure(
        'webhooks-broadcast-cpu',
        median(told, 'cpuMicros'),
        'µs of the service’s CPU',
        median(untold, 'cpuMicros'),
      ),
    ]
    if (isLarge) return broadcasts
    await save({ kinds: ['delivery.accepted'], batch: 1, enabled: true })
    const bareBefore = await bareLoop(receiver)
    heard = (await heardBy(receiver)).events
    const startMs = performance.now()
    await finished(house, 'everyone', count)
    await hears(receiver, heard + count)
    const alone = count / ((performance.now() - startMs) / 1_000)
    const bareAfter = await bareLoop(receiver)
    await save({ kinds: ['device.registered'], batch: 1, enabled: true })
    const late = await lateness(house, receiver)
    return [
      ...broadcasts,
      figure('webhooks-single', alone, 'events/s', (bareBefore + bareAfter) / 2),
      figure('webhooks-late-100', at(late, 0.5), 'ms'),
      figure('webhooks-late-100-p99', at(late, 0.99), 'ms'),
    ]
  } finally {
    await house.close()
    nghttpd.stop()
    rmSync(dir, { recursive: true, force: true })
  }
}

type Sent = { readonly perSecond: number; readonly cpuMicros: number }
const at = (all: readonly number[], part: number): number =>
  [...all].sort((a, b) => a - b)[Math.floor(all.length * part)] ?? Number.NaN
const median = (all: readonly Sent[], which: keyof Sent): number =>
  at(
    all.map((one) => one[which]),
    0.5,
  )

type Heard = { readonly events: number; readonly late: readonly number[] }
const heardBy = async (receiver: string): Promise<Heard> => (await (await fetch(receiver)).json()) as Heard

async function hears(receiver: string, events: number): Promise<void> {
  for (let waits = 0; waits < 6_000; waits++) {
    if ((await heardBy(receiver)).events >= events) return
    await wait(100)
  }
  throw new Error(`not all were told: ${JSON.stringify(await heardBy(receiver))} of ${events}`)
}

async function finished({ backend }: House, to: string, devices: number): Promise<number> {
  const { id } = await backend.call('sendNotification', {
    params: { app },
    body: { to: { any: [to] }, content: { title: 'Storm tonight' } },
  })
  for (let waits = 0; waits < 6_000; waits++) {
    await wait(100)
    const { state, totals, createdAt, finishedAt } = await backend.call('readNotification', { params: { app, id } })
    if (state !== 'finished') continue
    if (totals.accepted !== devices) throw new Error(`not all were accepted: ${JSON.stringify(totals)}`)
    return (Date.parse(finishedAt!) - Date.parse(createdAt)) / 1_000
  }
  throw new Error('not finished after ten minutes')
}

async function send(house: House): Promise<Sent> {
  const cpuBefore = house.cpuSeconds
  const seconds = await finished(house, 'everyone', count)
  return { perSecond: count / seconds, cpuMicros: ((house.cpuSeconds - cpuBefore) / count) * 1e6 }
}

/** The least that posts the same: so many requests on their way at a time, and nothing else. */
async function bareLoop(receiver: string): Promise<number> {
  const agent = new Agent({ connections: 16 })
  const { origin } = new URL(receiver)
  const body = JSON.stringify({ time: new Date(0).toISOString(), data: randomBytes(240).toString('hex') })
  let left = single
  const startMs = performance.now()
  const lane = async () => {
    while (left-- > 0) {
      const answer = await agent.request({ origin, path: '/', method: 'POST', body })
      await answer.body.dump()
    }
  }
  await Promise.all(Array.from({ length: 16 }, lane))
  const perSecond = single / ((performance.now() - startMs) / 1_000)
  await agent.close()
  return perSecond
}

/** Devices that register, a hundred a second, for ten seconds. */
async function lateness(house: House, receiver: string): Promise<readonly number[]> {
  await wait(1_000)
  const { events } = await heardBy(receiver)
  const phone = new Client({ url: house.url, bearer: await house.makeAppKey() })
  const registering: Promise<unknown>[] = []
  for (let n = 0; n < 1_000; n++) {
    const token = randomBytes(32).toString('hex')
    registering.push(phone.call('registerDevice', { body: { platform: 'ios', token, permission: 'granted' } }))
    await wait(10)
  }
  await Promise.all(registering)
  const late: number[] = []
  for (let waits = 0; late.length < 1_000 && waits < 300; waits++) {
    late.push(...(await heardBy(receiver)).late)
    await wait(100)
  }
  if (late.length < 1_000) throw new Error(`only ${late.length} were heard, from ${events} on`)
  return late
}
