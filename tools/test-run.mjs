// One run of tests: what is settled at its beginning and handed to all of its processes by their environment, and that nothing
// of it is left behind.
import { execFileSync } from 'node:child_process'
import { createHash, randomInt } from 'node:crypto'
import { chmodSync, existsSync, mkdirSync, readdirSync, readFileSync, rmSync, statfsSync } from 'node:fs'
import { join } from 'node:path'
import { setTimeout as wait } from 'node:timers/promises'

/** A quiet machine of two cores takes so long for the work below. */
const quietMs = 160
/** Files of the tests lie in memory where there is so much room, else on the disk. */
const enoughMemoryBytes = 4 * 2 ** 30

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
  if (process.env.TEST_SCOPE === 'long') return randomInt(2 ** 31)
  try {
    const commit = execFileSync('git', ['rev-parse', 'HEAD'], { encoding: 'utf8', stdio: ['ignore', 'pipe', 'ignore'] })
    return Number.parseInt(commit.slice(0, 7), 16)
  } catch {
    return 1 // Not a checkout: an archive of one version is one version, too.
  }
}

/** Where the folders of all runs lie; each is named after the process that began it. */
function foldersOfRuns() {
  const { bsize, bavail } = existsSync('/dev/shm') ? statfsSync('/dev/shm') : { bsize: 0, bavail: 0 }
  const inMemory = bsize * bavail >= enoughMemoryBytes && process.env.TEST_ON_DISK === undefined
  const user = process.getuid?.() ?? 'me'
  return join(inMemory ? '/dev/shm' : '/tmp', `zbell-tests-${user}`)
}

const startedAt = (pid) => {
  try {
    // Field 22, counted behind the name, which can hold anything.
    return readFileSync(`/proc/${pid}/stat`, 'utf8')
      .replace(/^.*\) /s, '')
      .split(' ')[19]
  } catch {
    return undefined // It has ended.
  }
}

/** The environment of the run that this process belongs to, which begins here if it belongs to none. */
export function currentRun() {
  process.env.TEST_PACE ??= measurePace().toFixed(2)
  process.env.TEST_SEED ??= String(chooseSeed())
  // All that is started carries it in its environment, so that what outlives the tests can be found.
  process.env.TEST_RUN ??= `${process.pid}-${startedAt(process.pid) ?? Date.now()}`
  return { pace: Number(process.env.TEST_PACE), seed: Number(process.env.TEST_SEED), run: process.env.TEST_RUN }
}

/** Ends what runs left behind that were killed, and makes this run's folder, where all of its files lie. */
export async function beginRun() {
  const { run } = currentRun()
  const folders = foldersOfRuns()
  mkdirSync(folders, { recursive: true })
  for (const name of readdirSync(folders)) {
    const [pid, started] = name.split('-')
    if (startedAt(pid) === started) continue
    await endLeftBehind(name, 0)
    rmSync(join(folders, name), { recursive: true, force: true })
  }
  const folder = join(folders, run)
  mkdirSync(folder)
  // Databases may run as accounts of their own.
  for (const path of [folders, folder]) chmodSync(path, 0o755)
  process.env.TMPDIR = folder
  return folder
}

/** @returns what was left running or lying about, in words */
export async function endRun(folder, withinMs) {
  const { run } = currentRun()
  const running = await endLeftBehind(run, withinMs)
  // A run that is broken off ends while it is ending already.
  const files = existsSync(folder) ? readdirSync(folder) : []
  rmSync(folder, { recursive: true, force: true })
  return [
    ...running.map(({ pid, command }) => `left running: ${pid} ${command.slice(0, 200)}`),
    ...files.map((name) => `left in the folder of the run: ${name}`),
  ]
}

/** Processes that carry the run's name in their environment, but not this one. */
function processesOf(run) {
  return readdirSync('/proc')
    .filter((name) => /^\d+$/.test(name) && Number(name) !== process.pid)
    .flatMap((pid) => {
      try {
        const environment = readFileSync(`/proc/${pid}/environ`, 'latin1').split('\0')
        // A process that has ended and was not collected yet has no command any more.
        const command = readFileSync(`/proc/${pid}/cmdline`, 'utf8').replaceAll('\0', ' ').trim()
        return environment.includes(`TEST_RUN=${run}`) && command !== '' ? [{ pid: Number(pid), command }] : []
      } catch {
        return [] // It has ended meanwhile, or is another user's.
      }
    })
}

/** @returns what is still there after so long, ended by force now */
async function endLeftBehind(run, withinMs) {
  const giveUpAt = Date.now() + withinMs
  let left = processesOf(run)
  while (left.length > 0 && Date.now() < giveUpAt) {
    await wait(100)
    left = processesOf(run)
  }
  for (const { pid } of left) {
    try {
      process.kill(pid, 'SIGKILL')
    } catch (error) {
      if (error.code !== 'ESRCH') throw error
    }
  }
  return left
}
