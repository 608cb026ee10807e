import { randomBytes } from 'node:crypto'
import { chmodSync, mkdtempSync, readFileSync, rmSync, writeFileSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { setTimeout as wait } from 'node:timers/promises'
import { afterAll, beforeAll, describe, expect, test } from '@jest/globals'
import fc from 'fast-check'
import { Batcher } from '../src/base/batcher.ts'
import { closeAll } from '../src/base/close-all.ts'
import { ConfigError, loadConfig } from '../src/base/config/load.ts'
import { options } from '../src/base/config/options.ts'
import { printableConfig } from '../src/base/config/print.ts'
import { makeLog } from '../src/base/log.ts'
import { Pace } from '../src/base/pace.ts'
import { ConcurrencyLimiter } from '../src/gateways/limiter.ts'
import { lintProfile } from '../src/gateways/lint-profile.ts'
import { loadProfile } from '../src/gateways/load-profile.ts'
import { Renewed } from '../src/gateways/renewed.ts'
import { checkHost, isGuarded } from '../src/net/address-guard.ts'
import { FairQueue } from '../src/queue/fair-queue.ts'
import { operatorKey } from '../src/vault/key-files.ts'
import { givenKeyring, KeyringFixed, keptKeyring } from '../src/vault/keyring.ts'
import { hashPassword, passwordFits } from '../src/vault/secrets.ts'
import { SealBroken, Vault } from '../src/vault/vault.ts'

let dir: string
beforeAll(() => {
  dir = mkdtempSync(join(tmpdir(), 'bell-parts-'))
})
afterAll(() => rmSync(dir, { recursive: true }))
const written = (name: string, text: string) => {
  writeFileSync(join(dir, name), text)
  return join(dir, name)
}

describe('the configuration', () => {
  test('every option has a default that is allowed, a variable of its own and a docstring', () => {
    const { config } = loadConfig({}, undefined)
    expect(Object.keys(config)).toEqual(Object.keys(options))
    const variables = Object.values(options).map(({ env }) => env)
    expect(new Set(variables).size).toBe(variables.length)
    for (const { says } of Object.values(options)) expect(says).toMatch(/^[A-Z].*\.$/)
  })
  test('the environment wins over the file, and the file over the default', () => {
    const file = written('a.yaml', 'http:\n  port: 1000\n  host: 127.0.0.2\n')
    const { config, sources } = loadConfig({ ZB_PORT: '2000' }, file)
    expect([config['http.port'], config['http.host'], config['log.level']]).toEqual([2000, '127.0.0.2', 'info'])
    expect([sources['http.port'], sources['http.host'], sources['log.level']]).toEqual([
      'environment ZB_PORT',
      `file ${file}`,
      'default',
    ])
  })
  test('all faults are told at once, each with its place', () => {
    const file = written('b.yaml', 'http:\n  port: 70000\ncolour: red\n')
    expect(() => loadConfig({ ZB_LOG_LEVEL: 'loud' }, file)).toThrow(ConfigError)
    expect(() => loadConfig({ ZB_LOG_LEVEL: 'loud' }, file)).toThrow(
      /no option colour\n.*http\.port.*\n.*ZB_LOG_LEVEL: log\.level/,
    )
    expect(() => loadConfig({}, join(dir, 'nowhere.yaml'))).toThrow(/cannot be read \(ENOENT\)/)
    expect(() => loadConfig({}, written('c.yaml', 'a: [1'))).toThrow(ConfigError)
  })
  test('secrets are never printed', () => {
    const printed = JSON.stringify(
      printableConfig(
        loadConfig({ ZB_MASTER_KEY: 'top-secret', ZB_DATABASE_URL: 'mysql://a:top-secret@h/d' }, undefined),
      ),
    )
    expect(printed).not.toContain('top-secret')
    expect(printed).toContain('(set, not shown)')
  })
})

describe('a gateway profile', () => {
  const good = readFileSync(new URL('../../standins/profiles/standin-ios.yaml', import.meta.url), 'utf8')
  test('that is good has no faults', () => {
    expect(lintProfile(good)).toMatchObject({ faults: [], profile: { profile: 'standin-ios' } })
  })
  test.each([
    ['a wrong value', ['platform: ios', 'platform: pager'], 'pager', /^platform: is “pager” and can be/],
    ['an unknown name', ['limits:', 'colour: red\nlimits:'], 'red', /^colour is not known here$/],
    ['a name that is missing', ['  bodyBytes: 4096', '  bytes: 4096'], 'bytes: 4096', /^limits\.bodyBytes: /],
    ['a mistake in an expression', ['"place": content.navigate,', '"place": ,'], ',', /^request\.body: /],
    ['a mistake in the YAML', ['method: POST', 'method: "POST'], '"POST', /quote/],
  ])('with %s names line, column and what was expected', (_name, [from, to], marker, says) => {
    const text = good.replace(from!, to!)
    const lines = text.split('\n')
    const at = to!.split('\n')[0]!
    const line = lines.findIndex((one) => one.includes(at))
    const faults = lintProfile(text).faults.filter((fault) => says.test(fault.says))
    expect(faults).toHaveLength(1)
    // A quote that never ends is missed where the text ends.
    if (marker === '"POST') return
    expect(faults[0]?.line).toBe(line + 1)
    // An expression's fault is told at the end of the word that is too much, one character further on.
    expect(Math.abs(faults[0]!.column - (lines[line]!.indexOf(marker!) + 1))).toBeLessThanOrEqual(1)
  })
  test('stops the start with the file and the place of each fault', () => {
    const file = written('profile.yaml', 'profile: x\nplatform: pager\n')
    expect(() => loadProfile(file)).toThrow(/profile\.yaml:2:11: platform: is “pager” and can be/)
    expect(() => loadProfile(join(dir, 'nowhere.yaml'))).toThrow(/cannot be read \(ENOENT\)/)
  })

  test('brings the certificates that it names, from beside it, and says which cannot be used', () => {
    const named = join(dir, 'with-ca.yaml')
    const shipped = readFileSync(new URL('../../standins/profiles/standin-ios.yaml', import.meta.url), 'utf8')
    writeFileSync(named, `${shipped}\ncaFile: own-ca.pem\n`)
    expect(() => loadProfile(named)).toThrow(/with-ca\.yaml: caFile .*own-ca\.pem cannot be read \(ENOENT\)/)
    writeFileSync(join(dir, 'own-ca.pem'), 'not a certificate')
    expect(() => loadProfile(named)).toThrow(/holds no certificate in PEM form/)
    const pem = '-----BEGIN CERTIFICATE-----\nAAAA\n-----END CERTIFICATE-----\n'
    writeFileSync(join(dir, 'own-ca.pem'), pem)
    expect(loadProfile(named).ca).toEqual([pem])
  })
})

describe('the vault', () => {
  const key = () => randomBytes(32).toString('base64url')
  const vault = new Vault(givenKeyring(key()))
  test('opens what it sealed, in its own place only', () => {
    fc.assert(
      fc.property(fc.uint8Array(), (secret) => {
        const sealed = vault.seal(secret, 'credential:1')
        expect(vault.open(sealed, 'credential:1').equals(Buffer.from(secret))).toBe(true)
        expect(() => vault.open(sealed, 'credential:2')).toThrow(SealBroken)
      }),
      { numRuns: 30 },
    )
  })
  test('another master key, a changed byte or a short text open nothing', () => {
    const sealed = vault.seal(Buffer.from('secret'), 'p')
    expect(sealed.includes('secret')).toBe(false)
    expect(() => new Vault(givenKeyring(key())).open(sealed, 'p')).toThrow(SealBroken)
    for (const at of [0, 2, 40, sealed.length - 1]) {
      const changed = Buffer.from(sealed)
      changed[at]! ^= 1
      expect(() => vault.open(changed, 'p')).toThrow(SealBroken)
    }
    expect(() => vault.open(Buffer.of(2), 'p')).toThrow(SealBroken)
    expect(() => new Vault(givenKeyring('short'))).toThrow(RangeError)
  })
  test('wraps anew under the newest key, and opens under each that is on the ring', () => {
    const [older, newer] = [key(), key()]
    const before = new Vault(givenKeyring(older))
    const sealed = before.seal(Buffer.from('secret'), 'p')
    const both = new Vault(givenKeyring(`${newer} ${older}`))
    const rewrapped = both.rewrap(sealed, 'p')
    expect(both.rewrap(rewrapped, 'p')).toBe(rewrapped)
    for (const one of [sealed, rewrapped]) expect(String(both.open(one, 'p'))).toBe('secret')
    expect(String(new Vault(givenKeyring(newer)).open(rewrapped, 'p'))).toBe('secret')
    expect(() => before.open(rewrapped, 'p')).toThrow(SealBroken)
  })
  test('finds a key that another process put on the ring', () => {
    const ring = join(dir, 'ring')
    const [mine, theirs] = [new Vault(keptKeyring(ring)), keptKeyring(ring)]
    theirs.add()
    const sealed = new Vault(theirs).seal(Buffer.from('secret'), 'p')
    expect(String(mine.open(sealed, 'p'))).toBe('secret')
    theirs.trim((id) => !id.equals(theirs.keys()[1]!.id))
    expect(readFileSync(join(ring, 'master.key'), 'utf8').trim().split('\n')).toHaveLength(1)
  })
  test('a key that left opens for a month yet, and seals nothing more; one that something is under stays', () => {
    const folder = join(dir, 'aside')
    let nowMs = Date.parse('2026-11-01T00:00:00Z')
    const ring = keptKeyring(folder, () => nowMs)
    const vault = new Vault(ring)
    const sealed = vault.seal(Buffer.from('secret'), 'p')
    const first = ring.keys()[0]!.id
    ring.add()
    ring.trim((id) => id.equals(first))
    expect(readFileSync(join(folder, 'master.key'), 'utf8').trim().split('\n')).toHaveLength(2)
    ring.trim(() => false)
    expect(readFileSync(join(folder, 'master.key'), 'utf8').trim().split('\n')).toHaveLength(1)
    expect(String(vault.open(sealed, 'p'))).toBe('secret')
    expect(vault.seal(Buffer.from('x'), 'p').subarray(1, 5).equals(first)).toBe(false)
    nowMs += 31 * 86_400_000
    ring.trim((id) => id.equals(first))
    expect(String(vault.open(sealed, 'p'))).toBe('secret')
    ring.trim(() => false)
    vault.refresh()
    expect(() => vault.open(sealed, 'p')).toThrow(SealBroken)
  })
  test('seals by the key that is the newest now, whatever it was when it began', () => {
    const folder = join(dir, 'newest')
    const [mine, theirs] = [new Vault(keptKeyring(folder)), keptKeyring(folder)]
    theirs.add()
    expect(mine.seal(Buffer.from('x'), 'p').subarray(1, 5).equals(theirs.keys()[0]!.id)).toBe(true)
  })
  test.each(['master.key', 'operator.key'])('%s that others can read is refused in words', (name) => {
    const folder = join(dir, `exposed-${name}`)
    const open = () => (name === 'master.key' ? keptKeyring(folder) : operatorKey(folder))
    open()
    chmodSync(join(folder, name), 0o640)
    expect(open).toThrow(/others can read or write it; change that: chmod 600/)
    chmodSync(join(folder, name), 0o600)
    expect(open).not.toThrow()
  })
  test('a key from the environment is replaced there', () => {
    expect(() => givenKeyring(key()).add()).toThrow(KeyringFixed)
    expect(() => givenKeyring(`${key()} ${key()}`).add()).not.toThrow()
  })
  test('the operator’s key is made once and kept', () => {
    expect(operatorKey(dir)).toBe(operatorKey(dir))
  })
  test('passwords fit only themselves, however they are composed', async () => {
    const kept = await hashPassword('caf\u00e9 at the pier')
    expect(await passwordFits('cafe\u0301 at the pier', kept)).toBe(true)
    expect(await passwordFits('cafe at the pier', kept)).toBe(false)
    expect(await passwordFits('x', 'plain.x.y')).toBe(false)
  })
})

describe('addresses from outside', () => {
  test.each([
    '127.0.0.1',
    '10.1.2.3',
    '169.254.169.254',
    '192.168.0.1',
    '172.31.0.1',
    '100.64.0.1',
    '0.0.0.0',
    '255.255.255.255',
    '::1',
    '::',
    'fe80::1',
    'fd00::1',
    '::ffff:127.0.0.1',
    '::ffff:10.0.0.1',
    '64:ff9b::7f00:1',
  ])('%s is guarded', (address) => expect(isGuarded(address)).toBe(true))
  test.each(['93.184.216.34', '172.32.0.1', '2606:2800:220:1::1', '::ffff:93.184.216.34'])('%s is not', (address) => {
    expect(isGuarded(address)).toBe(false)
  })
  test('a host that is such an address is refused, in brackets too', () => {
    expect(() => checkHost('[::1]')).toThrow(/private network/)
    expect(() => checkHost('push.example')).not.toThrow()
  })
})

describe('a renewed value', () => {
  test('is fetched once however many wait, and again when its time comes or it was dropped', async () => {
    let now = 0
    let fetched = 0
    const value = new Renewed(
      async () => {
        await new Promise((done) => setTimeout(done, 5))
        return { value: `v${++fetched}`, renewAtMs: now + 100 }
      },
      () => now,
    )
    expect(value.atHand).toBeUndefined()
    expect(await Promise.all([value.get(), value.get(), value.get()])).toEqual(['v1', 'v1', 'v1'])
    expect(value.atHand).toBe('v1')
    now = 100
    expect(await value.get()).toBe('v2')
    value.drop('v1')
    expect(value.atHand).toBe('v2')
    value.drop('v2')
    expect(await value.get()).toBe('v3')
  })
  test('that cannot be fetched fails for all who wait, and is tried anew by the next', async () => {
    let fails = true
    const value = new Renewed(async () => {
      if (fails) throw new Error('no')
      return { value: 'v', renewAtMs: Number.MAX_VALUE }
    })
    await expect(Promise.all([value.get(), value.get()])).rejects.toThrow('no')
    fails = false
    expect(await value.get()).toBe('v')
  })
})

test('places are taken at once while there are any, and then in line', async () => {
  const limiter = new ConcurrencyLimiter(1)
  expect(limiter.take()).toBeUndefined()
  const order: string[] = []
  const waiting = ['a', 'b'].map((name) => limiter.take()!.then(() => order.push(name)))
  limiter.release()
  limiter.release()
  await Promise.all(waiting)
  expect(order).toEqual(['a', 'b'])
  limiter.release()
  expect(limiter.take()).toBeUndefined()
})

describe('the batcher', () => {
  test('writes together what comes while it writes, and answers each its own', async () => {
    const batches: number[][] = []
    const batcher = new Batcher<number, number>(async (items) => {
      batches.push(items)
      await new Promise((done) => setTimeout(done, 5))
      return items.map((item) => item * 10)
    }, 3)
    expect(await Promise.all([1, 2, 3, 4, 5].map((item) => batcher.add(item)))).toEqual([10, 20, 30, 40, 50])
    expect(batches).toEqual([
      [1, 2, 3],
      [4, 5],
    ])
  })
  test('a batch that fails fails its own, not the next', async () => {
    let first = true
    const batcher = new Batcher<number, number>(async (items) => {
      if (first) {
        first = false
        throw new Error('no')
      }
      return items
    }, 10)
    await expect(batcher.add(1)).rejects.toThrow('no')
    expect(await batcher.add(2)).toBe(2)
  })
})

describe('turns', () => {
  test('go round among those who want one, and a newcomer is next', () => {
    const turns = new FairQueue()
    const given = Array.from({ length: 6 }, () => turns.next('app', [1, 2, 3]))
    expect(given).toEqual([1, 2, 3, 1, 2, 3])
    expect(turns.next('app', [1, 2, 3, 9])).toBe(9)
    expect(turns.next('app', [2])).toBe(2)
    expect(turns.next('app', [])).toBeUndefined()
  })
})

describe('the pace', () => {
  test('is said only when enough was sent of late', () => {
    const pace = new Pace()
    pace.note(100, 0)
    pace.note(100, 1_000)
    expect(pace.devicesPerSecond(1_000)).toBeUndefined()
    for (let i = 2; i <= 10; i++) pace.note(100, i * 1_000)
    expect(pace.devicesPerSecond(10_000)).toBe(100)
    expect(pace.devicesPerSecond(200_000)).toBeUndefined()
  })
})

describe('places that are learned', () => {
  test('grow with good answers and shrink with busy ones; who waits is let in when there is room', async () => {
    const limiter = ConcurrencyLimiter.learning(300)
    expect(limiter.limit).toBe(64)
    for (let i = 0; i < 64; i++) expect(limiter.take()).toBeUndefined()
    const waits = limiter.take()
    expect(waits).toBeDefined()
    for (let i = 0; i < 64; i++) limiter.note(0, false)
    expect(limiter.limit).toBe(81)
    limiter.release()
    await waits
    for (let i = 0; i < 81; i++) limiter.note(0, i < 10)
    expect(limiter.limit).toBe(56)
  })
  test('are few until the first answer', async () => {
    const limiter = ConcurrencyLimiter.learning(300, 2)
    expect([limiter.take(), limiter.take()]).toEqual([undefined, undefined])
    const waits = limiter.take()
    expect(waits).toBeDefined()
    limiter.note(600, true, false)
    expect([limiter.limit, limiter.hasAnswered]).toEqual([2, false])
    limiter.note(1, false, true)
    limiter.release()
    await waits
    expect(limiter.limit).toBeGreaterThanOrEqual(16)
  })
  test('an urgent one goes before those who only wait', async () => {
    const limiter = new ConcurrencyLimiter(1)
    expect(limiter.take()).toBeUndefined()
    const order: string[] = []
    const waits = [
      limiter.take()!.then(() => order.push('first')),
      limiter.take(true)!.then(() => order.push('urgent')),
    ]
    limiter.release()
    limiter.release()
    await Promise.all(waits)
    expect(order).toEqual(['urgent', 'first'])
  })
})

test('a part that hangs is left behind when time is over; one that must not be is waited for', async () => {
  const ended: string[] = []
  const parts = [
    {
      part: 'a database',
      isWaitedFor: true as const,
      close: () => wait(100).then(() => void ended.push('a database')),
    },
    { part: 'a connection', close: () => new Promise<void>(() => {}) },
    { part: 'a clock', close: () => void ended.push('a clock') },
  ]
  await closeAll(parts, 10, makeLog('silent'))
  expect(ended).toEqual(['a clock', 'a database'])
})
