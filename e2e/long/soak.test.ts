import { spawn } from 'node:child_process'
import { expect, test } from '@jest/globals'
import { dist } from '../harness/programs.ts'

const hourMs = 3_600_000
const maxMb = 400

/**
 * A broadcast to a million devices through a gateway with faults, while personal sends go on, the service is killed twice
 * and the database once. That every device is in exactly one state, and that the gateway's own books agree, the soak holds
 * to itself; it ends with an error otherwise.
 */
test(
  'a million devices, deaths and faults: the books agree to the last delivery, in flat memory',
  async () => {
    const child = spawn(process.execPath, [`${dist}bench.mjs`, 'soak', '--json'], {
      stdio: ['ignore', 'pipe', 'inherit'],
    })
    let out = ''
    child.stdout.on('data', (chunk: Buffer) => {
      out += chunk.toString()
    })
    const code = await new Promise((done) => child.once('exit', done))
    expect(code).toBe(0)
    const figures = new Map(
      out
        .trimEnd()
        .split('\n')
        .map((line) => JSON.parse(line) as { name: string; value: number })
        .map(({ name, value }) => [name, value]),
    )
    expect(figures.get('soak-devices')).toBe(Number(process.env.SOAK_DEVICES ?? 1_000_000))
    expect(figures.get('soak-personal')).toBeGreaterThan(0)
    expect(figures.get('soak-memory')).toBeLessThan(maxMb)
  },
  hourMs,
)
