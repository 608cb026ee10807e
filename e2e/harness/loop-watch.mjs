// Loaded into a service before anything else (`--import`): says how long its event loop stood still, and how fast the machine
// is at the same moments, when it is asked by a signal.
import { renameSync, writeFileSync } from 'node:fs'
import { performance } from 'node:perf_hooks'

const file = process.env.LOOP_WATCH_FILE
const everyMs = 2
let last = performance.now()
let worst = 0
setInterval(() => {
  const now = performance.now()
  worst = Math.max(worst, now - last - everyMs)
  last = now
}, everyMs).unref()

/** About fifty milliseconds of work on a quiet machine. */
function reference() {
  const start = performance.now()
  let sum = 0
  for (let n = 0; n < 12_000_000; n++) sum = (sum + n * 7) % 1_000_003
  return { ms: performance.now() - start, sum }
}

let asked = 0
process.on('SIGUSR2', () => {
  const stoodMs = worst
  const { ms } = reference()
  writeFileSync(`${file}.new`, JSON.stringify({ no: ++asked, stoodMs, referenceMs: ms }))
  renameSync(`${file}.new`, file)
  last = performance.now()
  worst = 0
})
