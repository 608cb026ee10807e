// Loaded into a service before anything else (`--import`): says how long its event loop stood still, how fast the machine is at
// the same moments, and what it holds in memory, when it is asked by a signal.
import { readFileSync, renameSync, writeFileSync } from 'node:fs'
import { setFlagsFromString } from 'node:v8'
import { runInNewContext } from 'node:vm'

const file = process.env.LOOP_WATCH_FILE
const everyMs = 2
/** What this thread has had of a processor (proc(5), schedstat): while others have it, it does not stand still by its own doing. */
const ranMs = () => Number(readFileSync(`/proc/self/task/${process.pid}/schedstat`, 'utf8').split(' ')[0]) / 1e6
let last = ranMs()
let worst = 0
setInterval(() => {
  const now = ranMs()
  worst = Math.max(worst, now - last)
  last = now
}, everyMs).unref()

/** About fifty milliseconds of work on a quiet machine. */
function reference() {
  const start = ranMs()
  let sum = 0
  for (let n = 0; n < 12_000_000; n++) sum = (sum + n * 7) % 1_000_003
  return { ms: ranMs() - start, sum }
}

setFlagsFromString('--expose-gc')
const collect = runInNewContext('gc')

let asked = 0
process.on('SIGUSR2', () => {
  const stoodMs = worst
  const { ms } = reference()
  collect()
  const heapMb = process.memoryUsage().heapUsed / 1e6
  writeFileSync(`${file}.new`, JSON.stringify({ no: ++asked, stoodMs, referenceMs: ms, heapMb }))
  renameSync(`${file}.new`, file)
  last = ranMs()
  worst = 0
})
