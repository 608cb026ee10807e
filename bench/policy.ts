import { mkdtempSync, rmSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { setTimeout as wait } from 'node:timers/promises'
import { type Figure, figure } from './figure.ts'
import { app, House } from './house.ts'
import { openNghttpd } from './nghttpd.ts'

const count = 50_000
const turns = 5
const params = { app }

/**
 * What a channel, quiet hours and a cap cost a broadcast: the same notification to 50,000 devices on a channel for which
 * both hold, and on none, by turns, through nghttpd. The quiet hours are not in force, and nobody has got as many as the cap
 * allows, so that all ring either way.
 */
export async function policy(): Promise<Figure[]> {
  const dir = mkdtempSync(join(tmpdir(), 'bell-policy-'))
  const nghttpd = await openNghttpd(dir)
  const house = await House.open(nghttpd.ready)
  try {
    await house.fillDevices(house.mintTokens(count))
    await house.backend.call('saveChannel', { params: { ...params, channel: 'offers' }, body: { title: 'Offers' } })
    const clock = (hours: number) => new Date(Date.now() + hours * 3_600_000).toISOString().slice(11, 16)
    await house.backend.call('changeSettings', {
      params,
      body: {
        quietHours: [{ from: clock(6), to: clock(8), then: 'wait', channels: ['offers'] }],
        caps: [{ name: 'offers', most: 50, hours: 744, channels: ['offers'] }],
      },
    })
    const bare: Sent[] = []
    const policyEffects: Sent[] = []
    await send(house)
    for (let turn = 0; turn < turns; turn++) {
      bare.push(await send(house))
      policyEffects.push(await send(house, 'offers'))
    }
    return [
      figure('policy-broadcast', median(policyEffects, 'perSecond'), 'devices/s', median(bare, 'perSecond')),
      figure(
        'policy-cpu',
        median(policyEffects, 'cpuMicros'),
        'µs of the service’s CPU a delivery',
        median(bare, 'cpuMicros'),
      ),
    ]
  } finally {
    await house.close()
    nghttpd.stop()
    rmSync(dir, { recursive: true, force: true })
  }
}

type Sent = { readonly perSecond: number; readonly cpuMicros: number }

const median = (all: readonly Sent[], which: keyof Sent): number =>
  all.map((one) => one[which]).sort((a, b) => a - b)[Math.floor(all.length / 2)]!

async function send(house: House, channel?: string): Promise<Sent> {
  const cpuBefore = house.cpuSeconds
  const { id } = await house.backend.call('sendNotification', {
    params,
    body: {
      to: { any: ['everyone'] },
      content: { title: 'Storm tonight', ...(channel === undefined ? {} : { channel }) },
    },
  })
  for (let waits = 0; waits < 3_000; waits++) {
    await wait(100)
    const { state, totals, createdAt, finishedAt } = await house.backend.call('readNotification', {
      params: { ...params, id },
    })
    if (state !== 'finished') continue
    if (totals.accepted !== count) throw new Error(`not all were accepted: ${JSON.stringify(totals)}`)
    return {
      perSecond: count / ((Date.parse(finishedAt!) - Date.parse(createdAt)) / 1_000),
      cpuMicros: ((house.cpuSeconds - cpuBefore) / count) * 1e6,
    }
  }
  throw new Error('not finished after five minutes')
}
