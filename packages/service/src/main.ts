import { existsSync } from 'node:fs'
import { fileURLToPath } from 'node:url'
import {
  ConfigError,
  type LoadedConfig,
  leanBinding,
  loadConfig,
  makeLog,
  type PrintedOption,
  printableConfig,
} from './base/index.ts'
import { FolderTaken, MariaDbMissing, SchemaTooNew, SchemaTooOld } from './database/index.ts'
import { startService } from './start.ts'
import { KeyFileExposed } from './vault/index.ts'

export type ServeOptions = {
  readonly env: Readonly<Record<string, string | undefined>>
  readonly configFile?: string | undefined
  readonly onReady: (service: { url: string; operatorKeyFile: string }) => void
}

/** What stops a start that the operator can mend, as one sentence; `undefined` for an internal error. */
export function startFault(error: unknown): string | undefined {
  if (
    error instanceof ConfigError ||
    error instanceof MariaDbMissing ||
    error instanceof FolderTaken ||
    error instanceof SchemaTooNew ||
    error instanceof SchemaTooOld ||
    error instanceof KeyFileExposed
  )
    return error.message
  if ((error as { code?: string }).code === 'EADDRINUSE')
    return 'the port is taken; choose another one with ZB_PORT, or 0 for a free one'
  return undefined
}

/** What is in force and where it came from. @throws {ConfigError} */
export const describeConfig = (env: ServeOptions['env'], file: string | undefined): PrintedOption[] =>
  printableConfig(loadConfig(env, file))

/** Runs the service until the process is told to stop. @throws what {@link startFault} explains */
export async function serve(options: ServeOptions): Promise<void> {
  const { config }: LoadedConfig = loadConfig(options.env, options.configFile)
  const log = makeLog(config['log.level'])
  if (leanBinding() === 'unknown')
    log.info({ node: process.version }, 'how this Node binds is not known here and stays; broadcasts cost more')
  const consoleDir = fileURLToPath(new URL('./console', import.meta.url))
  const stop = new Promise<string>((done) => {
    // `on`, not `once`: a second signal, as from a terminal and from whoever started this, must not cut the stop short and leave a
    // database behind. A stop takes a bounded time.
    for (const signal of ['SIGINT', 'SIGTERM'] as const) process.on(signal, () => done(signal))
    // Whoever started this process over a channel is its keeper: without them it has no reason to go on.
    if (process.connected) process.once('disconnect', () => done('the keeper is gone'))
    // npx and npm end by a signal without handing it on, and leave what they ran behind.
    if (options.env.npm_lifecycle_event !== undefined) whenParentIsGone(() => done('npm is gone'))
  })
  const service = await startService({ config, log, consoleDir: existsSync(consoleDir) ? consoleDir : undefined })
  options.onReady({ url: service.url, operatorKeyFile: `${config.data}/operator.key` })
  log.info({ signal: await stop }, 'stopping')
  await service.close()
  if (process.connected) process.disconnect()
}

const lookForParentMs = 500

function whenParentIsGone(then: () => void): void {
  const parent = process.ppid
  const timer = setInterval(() => {
    if (process.ppid === parent) return
    clearInterval(timer)
    then()
  }, lookForParentMs)
  timer.unref()
}
