import { createHash, randomBytes } from 'node:crypto'
import { uuidToBytes, uuidV7 } from '@zbell/core'
import { createPool } from 'mysql2/promise'
import { type Figure, figure } from './figure.ts'
import { app, House } from './house.ts'
import { PlainClient } from './plain-client.ts'

/** By turns, since a machine's pace drifts. */
const rounds = 4
const registrations = 6_000
const receiptCount = 20_000
const connections = 12

type Post = (path: string, bearer: string, body: string) => Promise<string>

/** Devices that register and report over HTTP, beside the same rows straight through the driver. */
export async function registration(): Promise<Figure[]> {
  const house = await House.open()
  try {
    const appKey = await house.makeAppKey()
    const client = new PlainClient(house.url)
    const post: Post = (path, bearer, body) => client.post(path, bearer, body)
    const registerAll = async (tokens: readonly string[]) => {
      const secrets: string[] = []
      const perSecond = await inParallel(tokens.length, 64, async (i) => {
        const body = {
          platform: 'ios',
          token: tokens[i],
          installation: randomBytes(16).toString('hex'),
          permission: 'granted',
          user: `u-${i % 5_000}`,
          locale: 'nb',
          timeZone: 'Europe/Oslo',
          appVersion: '4.2.0',
          model: 'Skerry 4',
        }
        secrets.push((JSON.parse(await post('/v1/devices', appKey, JSON.stringify(body))) as { secret: string }).secret)
      })
      return { perSecond, secrets }
    }
    await registerAll(house.mintTokens(1_000))
    const secrets: string[] = []
    const paces = { http: 0, bare: 0 }
    for (let round = 0; round < rounds; round++) {
      paces.bare += (await bareUpserts(house, registrations)) / rounds
      const done = await registerAll(house.mintTokens(registrations))
      paces.http += done.perSecond / rounds
      secrets.push(...done.secrets)
    }
    const receipts = await receiptsPerSecond(house, post, secrets)
    client.close()
    return [
      figure('registrations', paces.http, 'registrations/s over HTTP', paces.bare),
      figure('receipts', receipts, 'receipts/s over HTTP, one a call'),
      figure('registration-memory', house.peakMemoryMb, 'MB at the peak, service process'),
    ]
  } finally {
    await house.close()
  }
}

/** The least that keeps the same: a user and a device in one transaction, as many connections as the service has. */
async function bareUpserts(house: House, count: number): Promise<number> {
  const pool = createPool({ uri: house.databaseUrl, connectionLimit: connections })
  const tokens = house.mintTokens(count)
  const perSecond = await inParallel(count, connections, async (i) => {
    const connection = await pool.getConnection()
    await connection.query('start transaction')
    const [user] = await connection.query(
      "insert into users (app_no, environment, name, created_at, changed_at) values (1, 'development', ?, now(3), now(3)) on duplicate key update no = last_insert_id(no)",
      [`bare-${i % 5_000}`],
    )
    await connection.query(
      `insert into devices (id, app_no, environment, platform, token, token_hash, installation, secret_hash, user_no, permission, muted, locale, time_zone, app_version, model, registered_at, seen_at, changed_at)
       values (?, 1, 'development', 'ios', ?, ?, ?, ?, ?, 'granted', 0, 'nb', 'Europe/Oslo', '4.2.0', 'Skerry 4', now(3), now(3), now(3))
       on duplicate key update seen_at = value(seen_at)`,
      [
        Buffer.from(uuidToBytes(uuidV7(Date.now(), randomBytes(10)))!),
        tokens[i],
        createHash('sha256').update(tokens[i]!).digest(),
        randomBytes(16).toString('hex'),
        randomBytes(32),
        (user as { insertId: number }).insertId,
      ],
    )
    await connection.query('commit')
    connection.release()
  })
  await pool.end()
  return perSecond
}

async function receiptsPerSecond(house: House, post: Post, secrets: readonly string[]): Promise<number> {
  const { id } = await house.backend.call('sendNotification', {
    params: { app },
    body: { to: { any: ['everyone'] }, mode: 'wake', content: {} },
  })
  for (;;) {
    const { state } = await house.backend.call('readNotification', { params: { app, id } })
    if (state === 'finished') break
    await new Promise((done) => setTimeout(done, 200))
  }
  const states = ['received', 'shown'] as const
  return inParallel(Math.min(receiptCount, secrets.length * 2), 64, async (i) => {
    const receipt = { notification: id, state: states[i % 2], at: new Date().toISOString(), appState: 'closed' }
    await post('/v1/devices/me/receipts', secrets[i >> 1]!, JSON.stringify({ receipts: [receipt] }))
  })
}

async function inParallel(count: number, lanes: number, act: (i: number) => Promise<void>): Promise<number> {
  let next = 0
  const startMs = performance.now()
  const lane = async () => {
    while (next < count) await act(next++)
  }
  await Promise.all(Array.from({ length: lanes }, lane))
  return count / ((performance.now() - startMs) / 1_000)
}
