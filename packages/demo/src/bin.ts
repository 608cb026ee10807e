import { writeFileSync } from 'node:fs'
import { relative, resolve } from 'node:path'
import { fileURLToPath } from 'node:url'
import { parseArgs } from 'node:util'
import { stringify } from 'yaml'
import { type DemoReady, startDemo } from './main.ts'
import { ferries } from './scenario/scenario.ts'

const usage = 'Usage: npm run demo -- [--port N] [--data DIR] [--riders N] [--json]'
const presetData = '.demo'
/** So many passengers besides those of the scenario: enough that a count means something. */
const presetRiders = 400
const maxRiders = 10_000

process.exitCode = await run()
if (process.connected) process.disconnect()

async function run(): Promise<number> {
  let given: { port?: string; data?: string; riders?: string; json?: boolean }
  try {
    given = parseArgs({
      options: {
        port: { type: 'string' },
        data: { type: 'string' },
        riders: { type: 'string' },
        json: { type: 'boolean' },
      },
    }).values
  } catch (error) {
    return refuse(`${(error as Error).message}\n${usage}`)
  }
  const port = given.port === undefined ? undefined : Number(given.port)
  if (port !== undefined && !(Number.isInteger(port) && port >= 0 && port < 65_536))
    return refuse(`--port wants a number from 0 to 65535.\n${usage}`)
  const riders = given.riders === undefined ? presetRiders : Number(given.riders)
  if (!(Number.isInteger(riders) && riders >= 0 && riders <= maxRiders))
    return refuse(`--riders wants a number from 0 to ${maxRiders}.\n${usage}`)
  const stop = new Promise<void>((done) => {
    // `on`, not `once`: Ctrl-C can come twice, from the terminal and from whoever started this, and means the same.
    for (const signal of ['SIGINT', 'SIGTERM'] as const) process.on(signal, () => done())
    // Whoever started this over a channel is its keeper.
    if (process.connected) process.once('disconnect', () => done())
  })
  const dist = fileURLToPath(new URL('.', import.meta.url))
  const data = given.data ?? presetData
  if (!given.json) process.stderr.write('Starting the database, the service, the stand-ins and the handsets …\n')
  try {
    const onOffice = given.json ? undefined : (line: string) => process.stderr.write(`${line}\n`)
    const demo = await startDemo({ data, port, riders, dist, ...(onOffice ? { onOffice } : {}) })
    if (given.json) process.stdout.write(`${JSON.stringify(demo.ready)}\n`)
    else {
      const byDefault = given.data === undefined
      if (byDefault) writeProfileHere(demo.ready)
      process.stdout.write(welcome(demo.ready, byDefault))
    }
    const ended = await Promise.race([stop.then(() => 'stopped'), demo.ended.then(() => 'died')])
    if (!given.json && ended === 'stopped') process.stderr.write('\nStopping; everything is kept for the next start.\n')
    if (ended === 'died') process.stderr.write(`The service ended by itself; see ${resolve(data)}/service.log\n`)
    await demo.close()
    return ended === 'died' ? 1 : 0
  } catch (error) {
    return refuse(error instanceof Error ? error.message : String(error))
  }
}

function refuse(text: string): number {
  process.stderr.write(`${text}\n`)
  return 1
}

/** So that `zbell` in this folder knows where to call. */
function writeProfileHere(ready: DemoReady): void {
  writeFileSync('.zbell.yaml', stringify({ url: ready.service, key: ready.backendKey, app: ready.app }), {
    mode: 0o600,
  })
}

function welcome(ready: DemoReady, byDefault: boolean): string {
  const zbell = byDefault ? './zbell' : `ZBELL_PROFILE=${relative(process.cwd(), ready.profile)} ./zbell`
  return `
${ferries.name} is open.

  Console      ${ready.signInLink}
               signs in once; later: ${ready.account.email}, password ${ready.account.password}
  Passengers   ${ready.passengers}
  HTTP         ${ready.service}  (described at ${ready.service}/openapi.json)
  Backend key  ${ready.backendKey}
  App key      ${ready.appKey}

Try next, in a second terminal:

  ${zbell} send --to user:ada --title "Kittiwake is 15 minutes late" --body "New departure 17:45 from berth 2." --navigate /sailings/101
  ${zbell} handset show ada-ios
  ${zbell} handset tap ada-ios
  ${zbell} setup
  ${zbell} webhook try office

Ctrl-C stops everything that was started here.
`
}
