import { spawn } from 'node:child_process'
import { mkdtempSync, readFileSync, rmSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { createInterface } from 'node:readline'
import { afterAll, beforeAll, describe, expect, test } from '@jest/globals'
import { TokenMint } from '@zbell/standins'
import { fillDevices } from '../harness/fleet.ts'
import { processesOf } from '../harness/processes.ts'
import { dist, ended, patience, startProgram, until } from '../harness/programs.ts'
import { app, World } from '../harness/world.ts'

const fleet = 3_000
const stopMs = 4_000
let world: World
beforeAll(async () => {
  world = await World.open(
    { ZB_IN_FLIGHT: '50', ZB_STOP_MS: String(stopMs), ZB_LEASE_MS: '600000' },
    { ownDatabase: true },
  )
  const mint = new TokenMint(`ios ${world.standins.account.tokenSecret}`)
  await fillDevices(
    world.databaseUrl,
    Array.from({ length: fleet }, () => mint.mint()),
  )
})
afterAll(() => world.close())

const taken = () => world.standins.ios.books.taken
const slowly = (delayMs: number) => {
  world.standins.ios.faultProfile = { ...world.standins.ios.faultProfile, delayMs }
}
const broadcast = async () => {
  const before = taken()
  const id = await world.send({ to: { any: ['everyone'] }, mode: 'wake', content: { title: '' } })
  await until(taken, (count) => count > before + 100)
  return { id, before }
}

describe('a service that is told to stop in the middle of a broadcast', () => {
  test('launches nothing more, stores what lands, ends in time, and the next one goes on at once: nobody twice', async () => {
    slowly(1_000)
    const { id, before } = await broadcast()
    const told = taken()
    const { durationMs, code } = await world.stopService()
    expect(code).toBe(0)
    expect(durationMs).toBeLessThan(patience(stopMs + 5_000))
    // Only what was on its way already.
    expect(taken() - told).toBeLessThanOrEqual(100)
    slowly(0)
    await world.startService()
    // Well before a lease would have run out.
    const done = await until(
      () => world.notification(id),
      ({ state }) => state === 'finished',
    )
    expect(done.totals.accepted + done.totals.received).toBe(fleet)
    expect(taken() - before).toBe(fleet)
  })

  test('ends in time though a gateway gives no answer at all', async () => {
    slowly(60_000)
    const id = await world.send({ to: { any: ['everyone'] }, mode: 'wake', content: { title: '' } })
    await until(
      () => world.notification(id),
      ({ totals }) => totals.expanded === fleet,
    )
    const { durationMs, code } = await world.stopService()
    expect(code).toBe(0)
    expect(durationMs).toBeLessThan(patience(stopMs + 5_000))
    slowly(0)
    await world.startService()
    await world.backend.call('holdNotification', { params: { app, id }, body: { hold: 'cancelled' } })
  })

  test('ends in time though its database is away', async () => {
    slowly(100)
    await broadcast()
    await world.ownDatabase.stop()
    const { durationMs } = await world.stopService()
    expect(durationMs).toBeLessThan(patience(stopMs + 5_000))
    slowly(0)
    await world.ownDatabase.start()
    await world.startService()
  })
})

const lives = (pid: number): boolean => {
  try {
    process.kill(pid, 0)
    return true
  } catch {
    return false
  }
}

test('a service that is told again and again stops as one that is told once, and leaves no database behind', async () => {
  const data = mkdtempSync(join(tmpdir(), 'bell-told-'))
  const env = { ...process.env, ZB_DATA: data, ZB_PORT: '0', ZB_LOG_LEVEL: 'silent' }
  const { child } = await startProgram('zbell.mjs', ['serve', '--json'], env)
  const database = Number(readFileSync(join(data, 'mariadb/pid'), 'utf8'))
  expect(lives(database)).toBe(true)
  const entry = setInterval(() => child.kill('SIGINT'), 5)
  await ended(child)
  clearInterval(entry)
  expect(child.exitCode).toBe(0)
  expect(lives(database)).toBe(false)
  rmSync(data, { recursive: true, force: true })
})

test('whoever started the service and its database is killed: both end by themselves', async () => {
  const data = mkdtempSync(join(tmpdir(), 'bell-keeper-'))
  const keeper = `
    import { spawn } from 'node:child_process'
    import { makeLog, PrivateServer } from ${JSON.stringify(`${dist}service.mjs`)}
    const database = await PrivateServer.start(
      { dataDir: ${JSON.stringify(data)}, port: 0, memoryMb: 64, endsWithStarter: true, log: makeLog('silent') })
    const env = { ...process.env, ZB_DATA: ${JSON.stringify(join(data, 'service'))}, ZB_PORT: '0', ZB_DATABASE_URL: database.url }
    const service = spawn(process.execPath, [${JSON.stringify(`${dist}zbell.mjs`)}, 'serve', '--json'],
      { env, stdio: ['ignore', 'pipe', 'ignore', 'ipc'] })
    service.stdout.once('data', () => console.log(service.pid))
  `
  const child = spawn(process.execPath, ['--input-type=module', '-e', keeper], { stdio: ['ignore', 'pipe', 'inherit'] })
  const service = await new Promise<number>((done) =>
    createInterface({ input: child.stdout }).once('line', (line) => done(Number(line))),
  )
  const database = Number(readFileSync(join(data, 'mariadb/pid'), 'utf8'))
  child.kill('SIGKILL')
  await until(
    () => [service, database].filter(lives),
    (left) => left.length === 0,
  )
  rmSync(data, { recursive: true, force: true })
})

test('a signal to the npm that runs a service ends the service and its database', async () => {
  const data = mkdtempSync(join(tmpdir(), 'bell-npm-'))
  const env = { ...process.env, ZB_DATA: data, ZB_PORT: '0', ZB_LOG_LEVEL: 'silent' }
  const npm = spawn('npm', ['start', '--silent', '--', '--json'], { env, stdio: ['ignore', 'pipe', 'inherit'] })
  await new Promise((done) => createInterface({ input: npm.stdout }).once('line', done))
  // The folder is its own as long as it lives.
  await expect(startProgram('zbell.mjs', ['serve', '--json'], env)).rejects.toThrow(
    'another service runs on the data folder',
  )
  expect(processesOf(data)).not.toEqual([])
  npm.kill('SIGTERM')
  await until(
    () => processesOf(data),
    (left) => left.length === 0,
  )
  rmSync(data, { recursive: true, force: true })
})
