import { mkdtempSync, rmSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { setTimeout as wait } from 'node:timers/promises'
import { createConnection } from 'mysql2/promise'
import { fillDevices } from '../e2e/harness/fleet.ts'
import { type Figure, figure } from './figure.ts'
import { app, House } from './house.ts'
import { openOwnGateway } from './own-gateway.ts'

const devices = Number(process.env.SOAK_DEVICES ?? 1_000_000)
const busyShare = 0.02
const goneShare = 0.01
const refusedShare = 0.005
const dropEveryMs = 4_000

/**
 * A broadcast to a million devices through a gateway with faults, while personal sends go on, the service is killed twice
 * and the database once. It fails unless every device is in exactly one state and the gateway's own books agree.
 */
export async function soak(): Promise<Figure[]> {
  const dir = mkdtempSync(join(tmpdir(), 'bell-soak-'))
  /** How often each token was taken, of the broadcast only. */
  const taken = new Map<string, number>()
  let broadcast = ''
  const { gateway, mint, ready } = await openOwnGateway(dir, (token, notification) => {
    if (notification === broadcast) taken.set(token, (taken.get(token) ?? 0) + 1)
  })
  const house = await House.open(ready)
  const drops = setInterval(() => gateway.listener.drop(), dropEveryMs)
  try {
    const tokens = Array.from({ length: devices }, () => mint.mint())
    const own = mint.mint()
    for (let i = 0; i < devices * goneShare; i++) mint.retire(tokens[i]!)
    for (let i = 0; i < devices * refusedShare; i++) gateway.refused.add(tokens[devices - 1 - i]!)
    await fillDevices(house.databaseUrl, [own, ...tokens])
    gateway.faultProfile = { ...gateway.faultProfile, busyShare, busyForSeconds: 1 }
    const startMs = performance.now()
    const none = [`token:${own}`]
    const { id } = await house.backend.call('sendNotification', {
      params: { app },
      body: { to: { any: ['everyone'], none }, content: { title: 'Storm tonight' }, ttlSeconds: 3_600 },
    })
    broadcast = id
    const deaths: [atShare: number, what: () => Promise<void> | void][] = [
      [0.2, () => house.killService()],
      [0.4, () => house.killDatabase()],
      [0.6, () => house.killService()],
    ]
    let peakMb = 0
    let personal = 0
    for (;;) {
      await wait(500)
      peakMb = Math.max(peakMb, house.peakMemoryMb)
      const now = await house.backend.call('readNotification', { params: { app, id } }).catch(() => undefined)
      if (!now) continue
      if (now.state === 'finished') break
      const share = 1 - now.totals.queued / Math.max(1, now.totals.expanded)
      if (now.totals.expanded === devices && deaths.length > 0 && share >= deaths[0]![0]) await deaths.shift()![1]()
      const sent = await house.backend
        .call('sendNotification', {
          params: { app },
          body: { to: { any: none }, content: { title: 'You' }, urgency: 'high' },
        })
        .catch(() => undefined)
      if (sent) personal++
      if (performance.now() - startMs > 1_800_000) throw new Error(`not finished: ${JSON.stringify(now.totals)}`)
    }
    const seconds = (performance.now() - startMs) / 1_000
    if (deaths.length > 0) throw new Error('it was over before all deaths had come')
    await settle(house, id, taken)
    const doubles = [...taken.values()].reduce((sum, count) => sum + count - 1, 0)
    return [
      figure('soak-devices', devices, 'devices, each in exactly one state, books agree'),
      figure('soak-pace', devices / seconds, 'devices/s, deaths and retries included'),
      figure('soak-doubles', doubles, 'deliveries handed over twice, after a death'),
      figure('soak-personal', personal, 'personal sends meanwhile'),
      figure('soak-memory', peakMb, 'MB at the peak, service process'),
    ]
  } finally {
    clearInterval(drops)
    await house.close()
    await gateway.listener.close()
    rmSync(dir, { recursive: true, force: true })
  }
}

/** Holds the service's totals against its rows, and its rows against what the gateway took. @throws {Error} */
async function settle(house: House, id: string, taken: ReadonlyMap<string, number>): Promise<void> {
  const { totals } = await house.backend.call('readNotification', { params: { app, id } })
  const connection = await createConnection(house.databaseUrl)
  const [rows] = (await connection.query(
    `select d.state, count(*) as count from deliveries d join notifications n on n.no = d.notification_no
     where n.id = unhex(replace(?, '-', '')) group by d.state`,
    [id],
  )) as unknown as [{ state: number; count: number }[]]
  const [accepted] = (await connection.query(
    `select v.token from deliveries d join notifications n on n.no = d.notification_no join devices v on v.no = d.device_no
     where n.id = unhex(replace(?, '-', '')) and d.state = 1`,
    [id],
  )) as unknown as [{ token: string }[]]
  const [[days]] = (await connection.query(
    'select cast(sum(count) as signed) as counted, (select count(*) from deliveries where state = 1) as stored from day_counts where state = 1',
  )) as unknown as [[{ counted: number; stored: number }]]
  await connection.end()
  const wanted = { accepted: devices * (1 - goneShare - refusedShare), refused: devices * (goneShare + refusedShare) }
  const stored = new Map(rows.map(({ state, count }) => [state, count]))
  const faults = [
    totals.expanded !== devices && `expanded ${totals.expanded}`,
    totals.accepted !== wanted.accepted && `accepted ${totals.accepted}, not ${wanted.accepted}`,
    totals.refused !== wanted.refused && `refused ${totals.refused}, not ${wanted.refused}`,
    stored.get(1) !== totals.accepted && `rows say ${stored.get(1)} accepted`,
    stored.get(11) !== totals.refused && `rows say ${stored.get(11)} refused`,
    days?.counted !== days?.stored && `the days say ${days?.counted} accepted, the rows ${days?.stored}`,
    accepted.length !== taken.size && `the gateway took ${taken.size} of ${accepted.length}`,
    accepted.some(({ token }) => !taken.has(token)) && 'something is accepted that the gateway never took',
  ].filter(Boolean)
  if (faults.length > 0) throw new Error(`the books do not agree: ${faults.join('; ')}`)
}
