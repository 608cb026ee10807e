import { mkdtempSync, readFileSync, rmSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { afterAll, beforeAll, expect, test } from '@jest/globals'
import { sql } from 'drizzle-orm'
import { credentialPlace } from '../../src/credentials/credential.ts'
import { underLease } from '../../src/database/lease.ts'
import { RewrapUnderWay, rewrapAll } from '../../src/operations/rewrap.ts'
import { keptKeyring } from '../../src/vault/keyring.ts'
import { Vault } from '../../src/vault/vault.ts'
import { type ScratchApp, scratchApp } from '../scratch-database.ts'

let app: ScratchApp
let dir: string
beforeAll(async () => {
  app = await scratchApp()
  dir = mkdtempSync(join(tmpdir(), 'bell-ring-'))
})
afterAll(async () => {
  await app.scratch.close()
  rmSync(dir, { recursive: true })
})

const place = () => credentialPlace(app.scope.app.no, 'development', 'ios')
let count = 0
const keep = (sealed: Buffer) =>
  app.database.change(
    sql`insert into credentials (id, app_no, environment, platform, kind, sealed, created_at)
        values (unhex(md5(${++count})), ${app.scope.app.no}, 'development', 'ios', 'signing-key', ${sealed}, now(3))`,
  )
const all = async () =>
  (await app.database.rows<{ sealed: Buffer }>(sql`select sealed from credentials order by no`)).map(
    ({ sealed }) => sealed,
  )

test('runs that overlap, and processes that read the ring long ago, lose nothing', async () => {
  // Each is a process of its own, with a ring of its own on the same folder.
  const processes = Array.from({ length: 4 }, () => {
    const ring = keptKeyring(dir)
    return { ring, vault: new Vault(ring) }
  })
  let isOver = false
  const sealing = (async () => {
    for (let n = 0; !isOver; n++) await keep(processes[n % 4]!.vault.seal(Buffer.from(`secret ${n}`), place()))
  })()
  let [runs, refused] = [0, 0]
  for (let round = 0; round < 4; round++)
    await Promise.all(
      processes.map(({ vault, ring }) =>
        rewrapAll(app.database, vault, ring).then(
          () => runs++,
          (error: unknown) => {
            if (!(error instanceof RewrapUnderWay)) throw error
            refused++
          },
        ),
      ),
    )
  isOver = true
  await sealing
  expect([runs >= 4, runs + refused]).toEqual([true, 16])
  const fresh = new Vault(keptKeyring(dir))
  const opened = (await all()).map((sealed) => String(fresh.open(sealed, place())))
  expect(opened).toEqual(opened.map((_, n) => `secret ${n}`))
  await rewrapAll(app.database, fresh, keptKeyring(dir))
  expect(readFileSync(join(dir, 'master.key'), 'utf8').trim().split('\n')).toHaveLength(1)
})

test('a secret that no key opens holds up no other, and is counted', async () => {
  const ring = keptKeyring(dir)
  const vault = new Vault(ring)
  await keep(Buffer.concat([Buffer.of(2), Buffer.alloc(100, 7)]))
  await keep(vault.seal(Buffer.from('after it'), place()))
  const { rewrapped, unopened } = await rewrapAll(app.database, vault, ring)
  expect([rewrapped >= 1, unopened]).toEqual([true, 1])
  expect(String(new Vault(keptKeyring(dir)).open((await all()).at(-1)!, place()))).toBe('after it')
})

test('a lease is one’s alone, ends with the work, also with one that fails, and is found to be lost', async () => {
  const { database } = app
  const inside = await underLease(database, 'one', async (mayGoOn) => {
    expect(await underLease(database, 'one', async () => 'second')).toBeUndefined()
    expect(await mayGoOn()).toBe(true)
    await database.change(sql`update leases set until_at = now(3) - interval 1 second where name = 'one'`)
    expect(await mayGoOn()).toBe(false)
    expect(await underLease(database, 'one', async () => 'after it ran out')).toBe('after it ran out')
    return 'done'
  })
  expect(inside).toBe('done')
  await expect(underLease(database, 'one', () => Promise.reject(new Error('no')))).rejects.toThrow('no')
  expect(await underLease(database, 'one', async () => 'free')).toBe('free')
})
