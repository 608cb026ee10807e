import { type ChildProcess, spawn } from 'node:child_process'
import { createWriteStream } from 'node:fs'
import { createInterface } from 'node:readline'

export type ServiceProcess = {
  readonly url: string
  readonly operatorKeyFile: string
  readonly child: ChildProcess
  stop(): Promise<void>
}

/**
 * A larger young generation: what a wave of requests makes is gone before it has to be moved. A tenth of the processor time
 * of registrations, for some 30 MB; it can be set only as the process starts.
 */
const nodeOptions = ['--max-semi-space-size=32']

/** Starts `zbell serve` in a process of its own, its log in a file, and waits until it is ready. */
export async function startServiceProcess(given: {
  zbell: string
  configFile: string
  logFile: string
}): Promise<ServiceProcess> {
  const child = spawn(
    process.execPath,
    [...nodeOptions, given.zbell, 'serve', '--config', given.configFile, '--json'],
    {
      // The channel says nothing; the service stops when it breaks, so that it never outlives the demo.
      stdio: ['ignore', 'pipe', 'pipe', 'ipc'],
      // Ctrl-C in a terminal goes to all of its processes; the service is told to stop when its turn comes.
      detached: true,
    },
  )
  const log = createWriteStream(given.logFile, { flags: 'a', mode: 0o600 })
  const said: string[] = []
  child.stderr!.on('data', (chunk: Buffer) => {
    log.write(chunk)
    if (said.length < 200) said.push(chunk.toString())
  })
  const ready = await new Promise<{ url: string; operatorKeyFile: string }>((done, fail) => {
    createInterface({ input: child.stdout! }).once('line', (line) =>
      done(JSON.parse(line) as { url: string; operatorKeyFile: string }),
    )
    child.once('error', fail)
    child.once('exit', () =>
      fail(new Error(`The service did not start: ${lastWords(said)}\nIts log is ${given.logFile}`)),
    )
  })
  return {
    ...ready,
    child,
    stop: () =>
      new Promise((done) => {
        if (child.exitCode !== null || child.signalCode !== null) return done()
        child.once('exit', () => done())
        child.kill('SIGTERM')
      }),
  }
}

const lastWords = (said: readonly string[]): string => said.join('').trim().split('\n').slice(-3).join('\n')
