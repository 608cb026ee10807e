// What is settled once, at the beginning of a run of tests, and handed to all of its processes by their environment.
import { execFileSync } from 'node:child_process'
import { createHash, randomInt } from 'node:crypto'

/** A quiet machine of two cores takes so long for the work below. */
const quietMs = 160

/**
 * How many times slower than a quiet machine this one is at the moment, at least 1: time-outs grow with it. They end what
 * hangs; none decides whether a test passes.
 */
function measurePace() {
  const startMs = performance.now()
  const hash = createHash('sha256')
  const block = Buffer.alloc(1_048_576)
  for (let i = 0; i < 64; i++) hash.update(block)
  hash.digest()
  return Math.min(8, Math.max(1, (performance.now() - startMs) / quietMs))
}

/**
 * What random tests draw from: it follows from the commit, so that a red run can be repeated and no change turns red by chance
 * alone. With the long tests it is another one each time.
 */
function chooseSeed() {
  if (process.env.LONG_TESTS) return randomInt(2 ** 31)
  try {
    const commit = execFileSync('git', ['rev-parse', 'HEAD'], { encoding: 'utf8', stdio: ['ignore', 'pipe', 'ignore'] })
    return Number.parseInt(commit.slice(0, 7), 16)
  } catch {
    return 1 // Not a checkout: an archive of one version is one version, too.
  }
}

export function beginning() {
  process.env.TEST_PACE ??= measurePace().toFixed(2)
  process.env.TEST_SEED ??= String(chooseSeed())
  // Whatever is started carries it in its environment, so that what outlives the tests can be found.
  process.env.TEST_RUN ??= `run-${process.pid}-${Date.now()}`
  return { pace: Number(process.env.TEST_PACE), seed: Number(process.env.TEST_SEED), run: process.env.TEST_RUN }
}
