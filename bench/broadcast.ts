import { mkdtempSync, rmSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { setTimeout as wait } from 'node:timers/promises'
import { leanBinding } from '@zbell/service'
import { bareLoop } from './bare-loop.ts'
import { type Figure, figure } from './figure.ts'
import { app, type GatewayReady, House, inFlight } from './house.ts'
import { h2load, openNghttpd } from './nghttpd.ts'
import { badgeOf } from './signer.ts'

const count = 50_000
const warmUp = 4_000

/**
 * One notification to 50,000 devices, from its 202 to its last outcome, beside a bare loop against the same gateway: once
 * the stand-in, and once nghttpd, which leaves the machine to whoever asks.
 */
export async function broadcast(): Promise<Figure[]> {
  const dir = mkdtempSync(join(tmpdir(), 'bell-broadcast-'))
  const nghttpd = await openNghttpd(dir)
  try {
    const plain = await compare(await House.open(nghttpd.ready), '/ring?device=')
    const byC = await h2load(nghttpd.ready.origin, count * 4, inFlight, dir)
    const ring = await compare(await House.open(), '/ring/')
    const lean = await leanLoop(nghttpd.ready)
    return [
      figure('broadcast-50k', plain.perSecond, 'devices/s', plain.reference),
      figure('broadcast-50k-lean', plain.perSecond, 'devices/s', lean),
      figure('broadcast-50k-h2load', plain.perSecond, 'devices/s', byC),
      figure('broadcast-50k-cpu', plain.cpuMicros, 'µs of the service’s CPU a delivery'),
      figure('broadcast-50k-disk', plain.bytesWritten, 'bytes written by the database a delivery'),
      figure('broadcast-50k-memory', plain.memoryMb, 'MB at the peak, service process'),
      figure('broadcast-50k-standin', ring.perSecond, 'devices/s', ring.reference),
    ]
  } finally {
    nghttpd.stop()
    rmSync(dir, { recursive: true, force: true })
  }
}

/** The bare loop in a process that binds as the service does; last, since there is no way back. */
async function leanLoop({ origin, caFile }: GatewayReady): Promise<number> {
  leanBinding()
  const tokens = Array.from({ length: count }, (_, i) => String(i).padStart(64, 't'))
  return bareLoop({ origin, caFile, authorization: 'Badge none', tokens, inFlight, path: '/ring?device=' })
}

async function compare(house: House, path: string) {
  try {
    const tokens = house.mintTokens(count)
    await house.fillDevices(tokens)
    const { gateway } = house
    const loop = { ...gateway, authorization: await badgeOf(gateway.bare), inFlight, path }
    await bareLoop({ ...loop, tokens: tokens.slice(0, warmUp) })
    const before = await bareLoop({ ...loop, tokens })
    const cpuBefore = house.cpuSeconds
    const bytesBefore = house.databaseBytesWritten
    const perSecond = await send(house)
    return {
      perSecond,
      cpuMicros: ((house.cpuSeconds - cpuBefore) / count) * 1e6,
      bytesWritten: (house.databaseBytesWritten - bytesBefore) / count,
      memoryMb: house.peakMemoryMb,
      // Before and after, since a machine's pace drifts.
      reference: (before + (await bareLoop({ ...loop, tokens }))) / 2,
    }
  } finally {
    await house.close()
  }
}

async function send({ backend }: House): Promise<number> {
  const params = { app }
  const startMs = performance.now()
  const { id } = await backend.call('sendNotification', {
    params,
    body: { to: { any: ['everyone'] }, content: { title: 'Storm tonight', body: 'Check before you leave.' } },
  })
  for (;;) {
    await wait(100)
    const { state, totals, createdAt, finishedAt } = await backend.call('readNotification', {
      params: { ...params, id },
    })
    if (state !== 'finished') {
      if (performance.now() - startMs > 300_000)
        throw new Error(`not finished after five minutes: ${JSON.stringify(totals)}`)
      continue
    }
    if (totals.accepted !== count) throw new Error(`not all were accepted: ${JSON.stringify(totals)}`)
    return count / ((Date.parse(finishedAt!) - Date.parse(createdAt)) / 1_000)
  }
}
