import { spawn } from 'node:child_process'
import { once } from 'node:events'
import { existsSync, readdirSync, readFileSync } from 'node:fs'
import { createInterface } from 'node:readline'
import { fileURLToPath } from 'node:url'
import { expect, test } from '@jest/globals'
import { until } from '../harness/programs.ts'

const root = fileURLToPath(new URL('../../', import.meta.url))

/** Another run of tests, which knows nothing of this one. */
function startRun(word: string) {
  const { TEST_RUN: _, TEST_SERVERS: __, TMPDIR: ___, ...env } = process.env
  return spawn(process.execPath, ['tools/test.mjs', word], { cwd: root, env, stdio: ['ignore', 'pipe', 'pipe'] })
}

/** What is known of a process; nothing of one that has ended. */
function factsOf(pid: string, file: 'environ' | 'cmdline'): readonly string[] {
  try {
    return readFileSync(`/proc/${pid}/${file}`, 'latin1').split('\0')
  } catch {
    return []
  }
}

/** Of a process: what its environment holds under a name. */
const variableOf = (pid: string, name: string): string | undefined =>
  factsOf(pid, 'environ')
    .find((one) => one.startsWith(`${name}=`))
    ?.slice(name.length + 1)

const processesOf = (run: string) =>
  readdirSync('/proc').filter((pid) => /^\d+$/.test(pid) && variableOf(pid, 'TEST_RUN') === run)

test('a run that is killed leaves nothing running, and the next one removes its files', async () => {
  const run = startRun('cloud-events')
  await once(createInterface({ input: run.stderr }), 'line')
  // Its service is there: the servers, the workers and a suite's own programs are under way.
  const service = await until(
    () =>
      readdirSync('/proc').find(
        (pid) => isOf(pid, run.pid!) && factsOf(pid, 'cmdline').some((one) => one.endsWith('zbell.mjs')),
      ),
    (pid) => pid !== undefined,
  )
  const name = variableOf(service!, 'TEST_RUN')!
  const folder = variableOf(service!, 'TMPDIR')!
  run.kill('SIGKILL')
  await until(
    () => processesOf(name),
    (all) => all.length === 0,
  )
  expect(existsSync(folder)).toBe(true)
  const next = startRun('threat-model')
  next.stderr.resume()
  const [code] = await once(next, 'close')
  expect([code, existsSync(folder)]).toEqual([0, false])
})

/** Whether a process belongs to the run that this one began. */
function isOf(pid: string, starter: number): boolean {
  return /^\d+$/.test(pid) && (variableOf(pid, 'TEST_RUN') ?? '').startsWith(`${starter}-`)
}
