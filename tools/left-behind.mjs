// Finds what a run of tests started and left running.
import { readdirSync, readFileSync } from 'node:fs'
import { setTimeout as wait } from 'node:timers/promises'

/** Processes that carry the run's name in their environment, but not this one. */
function carrying(run) {
  return readdirSync('/proc')
    .filter((name) => /^\d+$/.test(name) && Number(name) !== process.pid)
    .flatMap((pid) => {
      try {
        const environment = readFileSync(`/proc/${pid}/environ`, 'latin1').split('\0')
        // A process that has ended and was not collected yet has no words any more.
        const words = readFileSync(`/proc/${pid}/cmdline`, 'utf8').replaceAll('\0', ' ').trim()
        return environment.includes(`TEST_RUN=${run}`) && words !== '' ? [{ pid: Number(pid), words }] : []
      } catch {
        return [] // It has ended while it was looked at, or is somebody else's.
      }
    })
}

/** @returns what is still there after so long, ended by force now */
export async function endLeftBehind(run, withinMs) {
  const giveUpAt = Date.now() + withinMs
  let left = carrying(run)
  while (left.length > 0 && Date.now() < giveUpAt) {
    await wait(200)
    left = carrying(run)
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
