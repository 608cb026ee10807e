import { execFileSync } from 'node:child_process'
import { mkdtempSync, readFileSync, rmSync, statSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { expect, test } from '@jest/globals'
import { createConnection } from 'mysql2/promise'
import { makeLog } from '../src/base/log.ts'
import { freePort, PrivateServer } from '../src/database/private/private-server.ts'

const answers = async (url: string) => {
  const connection = await createConnection(url)
  await connection.query('select 1')
  await connection.end()
  return true
}

test('the private database comes back by itself, outlives its starter, lets nobody else in, and is killed where it does not stop', async () => {
  const dir = mkdtempSync(join(tmpdir(), 'bell-private-'))
  const options = { dataDir: dir, port: await freePort(), memoryMb: 64, log: makeLog('silent') }
  const server = await PrivateServer.start(options)
  const { url } = server
  const pid = () => Number(readFileSync(join(dir, 'mariadb/pid'), 'utf8'))
  expect(await answers(url)).toBe(true)
  expect(statSync(join(dir, 'mariadb/password')).mode & 0o777).toBe(0o600)
  const password = readFileSync(join(dir, 'mariadb/password'), 'utf8')
  expect(execFileSync('ps', ['-eo', 'args'], { encoding: 'utf8' })).not.toContain(password)
  await expect(answers(url.replace(password, 'guess'))).rejects.toThrow()
  await expect(answers(url.replace(`bell:${password}`, 'root:'))).rejects.toThrow()

  const before = pid()
  process.kill(before, 'SIGKILL')
  for (let i = 0; i < 100; i++) {
    await new Promise((done) => setTimeout(done, 100))
    if (pid() !== before && (await answers(url).catch(() => false))) break
  }
  expect(pid()).not.toBe(before)

  await expect(PrivateServer.start(options)).rejects.toThrow('another service runs on the data folder')
  expect(await answers(url)).toBe(true)
  // As if the first one's process had died: then its hold on the folder goes, and the database is left behind.
  execFileSync('pkill', ['-KILL', '-f', join(dir, 'mariadb/lock')])
  const takenOver = await PrivateServer.start(options)
  expect(takenOver.url).toBe(url)
  expect(await answers(url)).toBe(true)
  const running = pid()
  await Promise.all([server.stop(), takenOver.stop()])
  expect(() => process.kill(running, 0)).toThrow()

  const stuck = await PrivateServer.start({ ...options, stopWithinMs: 200 })
  const frozen = pid()
  process.kill(frozen, 'SIGSTOP')
  await stuck.stop()
  expect(() => process.kill(frozen, 0)).toThrow()
  const recovered = await PrivateServer.start(options)
  expect(await answers(recovered.url)).toBe(true)
  await recovered.stop()
  rmSync(dir, { recursive: true, force: true })
})
