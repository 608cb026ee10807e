import { type ChildProcess, spawn } from 'node:child_process'
import type { Socket } from 'node:net'
import { join } from 'node:path'
import type { Logger } from 'pino'

/** Another process that is alive uses the data folder. */
export class FolderTaken extends Error {
  override readonly name = 'FolderTaken'
}

/** A service that is just stopping gets so long to let the folder go. */
const waitSeconds = 3
const takenCode = 97

/**
 * Holds a folder for as long as this process lives. Node has no `flock(2)`, so a child holds it whose input ends with this process,
 * however that ends: what a crash leaves behind is a file that nobody holds. The lock is the kernel's, so containers
 * that share the folder see it as well.
 * @param name as whoever reads the refusal knows the folder
 * @returns what lets it go
 * @throws {FolderTaken} when another process holds it
 */
export async function lockFolder(dir: string, log: Logger, name = dir): Promise<() => void> {
  // In a group of its own: a terminal's Ctrl-C must not end it before this process has stopped.
  const child = spawn(
    'flock',
    [
      '--timeout',
      String(waitSeconds),
      '--conflict-exit-code',
      String(takenCode),
      join(dir, 'lock'),
      'sh',
      '-c',
      holding,
    ],
    { stdio: ['pipe', 'pipe', 'ignore'], detached: true },
  )
  child.stdin.on('error', () => {}) // It ended before us, by somebody else's hand.
  const outcome = await outcomeOf(child)
  if (outcome === 'taken')
    throw new FolderTaken(
      `another service runs on the data folder ${name}; stop that one, give this one a folder of its own (ZB_DATA), or let both use one database (ZB_DATABASE_URL)`,
    )
  if (outcome === 'impossible')
    log.warn({ dir }, 'flock is missing here, so nobody notices two services on one data folder')
  child.unref()
  // Neither keeps this process from ending.
  ;(child.stdin as unknown as Socket).unref?.()
  return () => child.stdin.end()
}

const holding = 'echo held; exec cat >/dev/null'

const outcomeOf = (child: ChildProcess): Promise<'held' | 'taken' | 'impossible'> =>
  new Promise((done) => {
    child.stdout?.once('data', () => {
      child.stdout?.destroy()
      done('held')
    })
    child.once('error', () => done('impossible'))
    child.once('exit', (code) => done(code === takenCode ? 'taken' : 'impossible'))
  })
