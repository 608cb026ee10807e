import { readFileSync } from 'node:fs'
import { rootCertificates } from 'node:tls'
import type { Logger } from 'pino'
import { type Closeable, type Config, ConfigError } from './base/index.ts'
import { Database, migrate, PrivateServer } from './database/index.ts'

/** The database that is configured, or a private one, with its schema up to date. */
export async function openDatabase(config: Config, log: Logger, closeables: Closeable[]): Promise<Database> {
  let url = config['database.url']
  const initFile = config['database.initFile']
  if (url === '') {
    const server = await PrivateServer.start({
      dataDir: config.data,
      port: config['database.port'],
      memoryMb: config['database.memoryMb'],
      alsoSql: initFile === '' ? [] : readFileSync(initFile, 'utf8').split('\n'),
      log,
    })
    closeables.push({ part: 'the private database', isWaitedFor: true, close: () => server.stop() })
    url = server.url
  }
  const ca = config['database.ca']
  if (ca === '' && !isLoopback(url))
    log.warn(
      'the database is on another machine and is spoken with without TLS; database.ca names who signs its certificate',
    )
  const database = new Database({
    url,
    connections: config['database.connections'],
    ca: authorities('database.ca', ca),
  })
  closeables.push({ part: 'connections to the database', close: () => database.close() })
  const migrated = await migrate(database)
  if (migrated.length > 0) log.info({ migrated }, 'the schema was brought up to date')
  return database
}

const isLoopback = (url: string): boolean => /^(localhost|127\.\d+\.\d+\.\d+|\[::1\])$/.test(new URL(url).hostname)

/** @returns undefined for none @throws {ConfigError} */
function authorities(option: string, file: string): readonly string[] | undefined {
  if (file === '') return undefined
  if (file === 'system') return rootCertificates
  try {
    return [readFileSync(file, 'utf8')]
  } catch (error) {
    throw new ConfigError(`${option}: ${file} cannot be read (${(error as NodeJS.ErrnoException).code})`)
  }
}
