import { existsSync } from 'node:fs'
import { join } from 'node:path'
import { fileURLToPath } from 'node:url'
import type { Command } from 'commander'
import { called } from '../called.ts'
import { paint } from '../drawing/paint.ts'
import { table } from '../drawing/table.ts'
import { exitCodes, UsageError } from '../exit-codes.ts'
import type { Io } from '../io.ts'
import { printJson, type Run } from './context.ts'
import { type HandsetProcess, startHandsets } from './handset-process.ts'

type Printed = {
  readonly name: string
  readonly value: unknown
  readonly source: string
  readonly env: string
  readonly says: string
}

type Ready = { readonly url: string; readonly operatorKeyFile: string }

/** What the service's own bundle offers. The command line is no part of it, and is used without it as well. */
type ServiceBundle = {
  serve(options: { env: Io['env']; configFile?: string | undefined; onReady: (ready: Ready) => void }): Promise<void>
  describeConfig(env: Io['env'], file: string | undefined): Printed[]
  startFault(error: unknown): string | undefined
}

async function serviceBundle(): Promise<ServiceBundle> {
  const file = new URL('./service.mjs', import.meta.url)
  if (!existsSync(file))
    throw new UsageError(`the service is not installed beside zbell; ${fileURLToPath(file)} is missing.`)
  return (await import(file.href)) as ServiceBundle
}

type ServiceFlags = {
  readonly config?: string
  readonly handsets?: boolean
  readonly only?: string
  readonly json?: boolean
}

export function serviceCommands(program: Command, io: Io, done: Run): void {
  program
    .command('serve')
    .description('Run the service until it is told to stop')
    .option('--config <file>', 'a YAML file of options')
    .option('--only <part>', 'only http, worker or clock; any number of processes share one database')
    .option('--handsets', 'with virtual handsets beside it, to rehearse in development')
    .addHelpText('after', '\nExample:\n  $ ZB_DATA=/var/lib/zbell zbell serve --config /etc/zbell.yaml')
    .action(async (_flags: object, command: Command) => {
      const { config, json, handsets, only } = command.optsWithGlobals<ServiceFlags>()
      const service = await serviceBundle()
      await asUsageError(service, async () => {
        const beside = handsets ? await startHandsets(handsetsDir(service, io, config)) : undefined
        try {
          await service.serve({
            env: { ...io.env, ...beside?.env, ...(only === undefined ? {} : { ZB_ONLY: only }) },
            configFile: config,
            onReady: (ready) => {
              beside?.serviceIsAt(ready.url)
              io.out(json ? `${JSON.stringify(ready)}\n` : welcome(ready, beside, called(io)))
            },
          })
        } finally {
          await beside?.close()
        }
      })
      done(exitCodes.done)
    })
  program
    .command('config')
    .description('Print the service’s options, what is in force, and where each value came from')
    .option('--config <file>', 'a YAML file of options')
    .addHelpText('after', '\nExample:\n  $ ZB_PORT=8080 zbell config')
    .action(async (_flags: object, command: Command) => {
      const { config, json } = command.optsWithGlobals<ServiceFlags>()
      const service = await serviceBundle()
      const printed = await asUsageError(service, async () => service.describeConfig(io.env, config))
      if (json) printJson(io, printed)
      else {
        const p = paint(io.colour)
        const rows = printed.map(({ name, value, source, env, says }) => [
          name,
          [value].flat().join(', ') || '–',
          source === 'default' ? p.dim(source) : source,
          env,
          says,
        ])
        io.out(table(['option', 'value', 'from', 'variable', 'what it does'], rows, p.dim))
      }
      done(exitCodes.done)
    })
}

const handsetsDir = (service: ServiceBundle, io: Io, config: string | undefined): string =>
  join(String(service.describeConfig(io.env, config).find(({ name }) => name === 'data')?.value), 'handsets')

/** @param zbell as whoever reads it can call it */
function welcome({ url, operatorKeyFile }: Ready, beside: HandsetProcess | undefined, zbell: string): string {
  const as = `ZBELL_KEY=$(cat ${operatorKeyFile}) ZBELL_URL=${url}`
  return `The service is ready at ${url}
The operator's key lies in ${operatorKeyFile}
${beside ? 'Virtual handsets run beside it; they rehearse in development, without any credential.\n' : ''}
New here? Make an app, and somebody who may sign in to the console:

  export ${as}
  ${zbell} app new my-app --name "My app"
  ${zbell} account new me@example.org --name "My name" --role owner
  ${zbell} setup --app my-app --environment development
`
}

async function asUsageError<T>(service: ServiceBundle, act: () => Promise<T>): Promise<T> {
  try {
    return await act()
  } catch (error) {
    const fault = service.startFault(error)
    if (fault === undefined) throw error
    throw new UsageError(fault)
  }
}
