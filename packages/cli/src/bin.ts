import { createInterface } from 'node:readline/promises'
import { main } from './main.ts'

const stop = new AbortController()
const serving = process.argv.includes('serve')
// The service stops by itself, in order; every other command just ends its waiting.
if (!serving) process.once('SIGINT', () => stop.abort())

// Whoever reads may have seen enough, as `head` does; that is no fault of this command.
process.stdout.on('error', (error: NodeJS.ErrnoException) => {
  if (error.code === 'EPIPE') process.exit()
  throw error
})

const exitCode = await main(process.argv.slice(2), {
  env: process.env,
  cwd: process.cwd(),
  out: (text) => void process.stdout.write(text),
  caughtUp: () =>
    process.stdout.writableNeedDrain ? new Promise((done) => process.stdout.once('drain', done)) : Promise.resolve(),
  err: (text) => void process.stderr.write(text),
  colour: process.stdout.isTTY === true && !process.env.NO_COLOR,
  terminal: process.stdout.isTTY === true,
  locale: Intl.DateTimeFormat().resolvedOptions().locale,
  timeZone: Intl.DateTimeFormat().resolvedOptions().timeZone,
  stop: stop.signal,
  ...(process.stdin.isTTY ? { askSecret, ask } : {}),
})
// What a service that stopped left behind, such as a connection that hangs, must not keep its process alive.
if (serving) process.exit(exitCode)
process.exitCode = exitCode

async function ask(prompt: string): Promise<string> {
  const lines = createInterface({ input: process.stdin, output: process.stderr })
  try {
    return await lines.question(prompt, { signal: stop.signal })
  } finally {
    lines.close()
  }
}

/** The terminal gives each key as it is pressed, and shows none. */
function askSecret(prompt: string): Promise<string> {
  process.stderr.write(prompt)
  const { stdin } = process
  stdin.setRawMode(true)
  stdin.setEncoding('utf8')
  return new Promise((done, fail) => {
    let typed = ''
    const end = () => {
      stdin.setRawMode(false)
      stdin.pause()
      stdin.off('data', hear)
      process.stderr.write('\n')
    }
    const hear = (keys: string) => {
      for (const key of keys) {
        if (key === '\r' || key === '\n') {
          end()
          done(typed)
          return
        }
        if (key === '\u0003') {
          end()
          fail(new Error('standard input was empty'))
          return
        }
        typed = key === '\u007f' ? typed.slice(0, -1) : typed + key
      }
    }
    stdin.on('data', hear)
    stdin.resume()
  })
}
