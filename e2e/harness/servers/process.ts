// The servers that all suites of one run share: a MariaDB, a demo, a Chromium. Each starts when a suite first asks for it, and ends
// with this process, which ends with the one that started it.
import { rmSync } from 'node:fs'
import { createServer, type IncomingMessage, type ServerResponse } from 'node:http'
import type { AddressInfo } from 'node:net'
import { openBrowserServer } from '../browser.ts'
import { Companies } from './companies.ts'
import { DatabaseServer } from './database-server.ts'
import { makeStandinsTemplate } from './standins-template.ts'

/** Starts when it is first asked for. */
const once = <T>(start: () => Promise<T>): (() => Promise<T>) => {
  let started: Promise<T> | undefined
  return () => {
    started ??= start()
    return started
  }
}

const closing: (() => Promise<unknown>)[] = []
const opened = async <T>(what: T, close: (what: T) => Promise<unknown>): Promise<T> => {
  closing.push(() => close(what))
  return what
}

const databases = once(async () => opened(await DatabaseServer.start(), (one) => one.stop()))
const companies = once(async () => opened(await Companies.start(), (one) => one.close()))
const browser = once(async () => opened(await openBrowserServer(), (one) => one.close()))

const standins = once(async () => opened(await makeStandinsTemplate(), async (dir) => rmSync(dir, { recursive: true })))

/** What can be asked for, as `METHOD /path`. */
const answers: Record<string, (query: URLSearchParams) => Promise<unknown>> = {
  'POST /database': async (query) => ({ url: await (await databases()).create(query.has('migrated')) }),
  'DELETE /database': async (query) => (await databases()).drop(query.get('name') ?? ''),
  'POST /company': async (query) => (await companies()).open(query.has('harbour')),
  'GET /standins': async () => ({ dir: await standins() }),
  'GET /browser': async () => ({ url: (await browser()).wsEndpoint() }),
}

const server = createServer((request, response) => void answer(request, response))
server.listen(0, '127.0.0.1', () => {
  const { port } = server.address() as AddressInfo
  process.stdout.write(`${JSON.stringify({ url: `http://127.0.0.1:${port}` })}\n`)
})
process.once('disconnect', () => void end())

async function answer(request: IncomingMessage, response: ServerResponse): Promise<void> {
  const { pathname, searchParams } = new URL(request.url ?? '/', 'http://servers')
  try {
    const body = await answers[`${request.method} ${pathname}`]?.(searchParams)
    response.end(JSON.stringify(body ?? {}))
  } catch (error) {
    response.statusCode = 500
    response.end(error instanceof Error ? error.stack : String(error))
  }
}

async function end(): Promise<void> {
  server.close()
  server.closeAllConnections()
  for (const close of closing.reverse()) await close().catch((error: unknown) => console.error(error))
  process.exit()
}
