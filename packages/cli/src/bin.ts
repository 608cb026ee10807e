import { main } from './main.ts'

const stop = new AbortController()
const serving = process.argv.includes('serve')
// The service stops by itself, in order; every other command just ends its waiting.
if (!serving) process.once('SIGINT', () => stop.abort())

process.exitCode = await main(process.argv.slice(2), {
  env: process.env,
  cwd: process.cwd(),
  out: (text) => void process.stdout.write(text),
  err: (text) => void process.stderr.write(text),
  colour: process.stdout.isTTY === true && !process.env.NO_COLOR,
  locale: Intl.DateTimeFormat().resolvedOptions().locale,
  timeZone: Intl.DateTimeFormat().resolvedOptions().timeZone,
  stop: stop.signal,
})
