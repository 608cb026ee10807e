import { execFileSync } from 'node:child_process'
import { type Figure, figure } from './figure.ts'
import { app, House } from './house.ts'

const count = 1_000_000

/** A million devices taken in as a file and carried out again: time, memory, size on disk. */
export async function carry(): Promise<Figure[]> {
  const house = await House.open()
  try {
    const params = { app, what: 'devices' }
    const content = async function* () {
      for (let at = 0; at < count; at += 1_000) {
        const lines = house.mintTokens(1_000).map((token, i) => {
          const device = {
            platform: 'ios',
            token,
            user: `passenger-${(at + i) % 400_000}`,
            locale: 'nb',
            timeZone: 'Europe/Oslo',
          }
          return JSON.stringify(device)
        })
        yield Buffer.from(`${lines.join('\n')}\n`)
      }
    }
    let startMs = performance.now()
    const seconds = () => (performance.now() - startMs) / 1_000
    const done = await house.backend.upload(
      'importList',
      { params },
      { type: 'application/x-ndjson', content: content() },
    )
    const inSeconds = seconds()
    if (done.taken !== count) throw new Error(`only ${done.taken} were taken in`)
    const inMemory = house.peakMemoryMb
    startMs = performance.now()
    let lines = 0
    for await (const part of await house.backend.stream('exportList', { params, query: { format: 'ndjson' } }))
      for (const byte of part) if (byte === 10) lines++
    if (lines !== count) throw new Error(`only ${lines} came out`)
    const outSeconds = seconds()
    const kilobytes = Number(execFileSync('du', ['-sk', house.databaseDir], { encoding: 'utf8' }).split('\t')[0])
    return [
      figure('carry-in-1m', count / inSeconds, 'devices/s'),
      figure('carry-in-1m-memory', inMemory, 'MB at the peak, service process'),
      figure('carry-out-1m', count / outSeconds, 'devices/s'),
      figure('carry-1m-disk', kilobytes / 1_024, 'MB of database'),
    ]
  } finally {
    await house.close()
  }
}
