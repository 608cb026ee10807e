import { type ChildProcess, spawn } from 'node:child_process'
import { existsSync } from 'node:fs'
import { createInterface } from 'node:readline'
import { fileURLToPath } from 'node:url'
import { UsageError } from '../exit-codes.ts'

export type HandsetProcess = {
  /** What the service needs to know of them. */
  readonly env: Readonly<Record<string, string>>
  /** They call the service here from now on. */
  serviceIsAt(url: string): void
  close(): Promise<void>
}

/** Starts the virtual handsets in a process beside the service; they end with it. @param dir what they keep lies there */
export async function startHandsets(dir: string): Promise<HandsetProcess> {
  const file = fileURLToPath(new URL('./handsets.mjs', import.meta.url))
  if (!existsSync(file)) throw new UsageError(`the handsets are not installed beside zbell; ${file} is missing.`)
  // Ctrl-C in a terminal goes to all of its processes; handsets end when their channel closes, after the service.
  const child = spawn(process.execPath, [file, dir], { stdio: ['ignore', 'pipe', 'inherit', 'ipc'], detached: true })
  const { url, key } = await firstLine(child)
  return {
    env: { ZB_HANDSETS_URL: url, ZB_HANDSETS_KEY: key },
    serviceIsAt: (service) => void child.send({ service }),
    close: () =>
      new Promise((done) => {
        if (child.exitCode !== null || child.signalCode !== null) return done()
        child.once('exit', () => done())
        child.disconnect()
      }),
  }
}

function firstLine(child: ChildProcess): Promise<{ url: string; key: string }> {
  return new Promise((done, fail) => {
    createInterface({ input: child.stdout! }).once('line', (line) =>
      done(JSON.parse(line) as { url: string; key: string }),
    )
    child.once('error', fail)
    child.once('exit', () => fail(new UsageError('the handsets did not start; what stopped them stands above.')))
  })
}
