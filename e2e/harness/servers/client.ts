import { once } from 'node:events'
import { cpSync } from 'node:fs'
import { type IncomingMessage, request } from 'node:http'
import { text } from 'node:stream/consumers'
import type { CompanyReady } from './companies.ts'

const address = process.env.TEST_SERVERS

/** Over a connection of its own each time: one that is kept would keep the suite's process from ending. */
async function ask<T>(method: string, path: string): Promise<T> {
  if (address === undefined) throw new Error('TEST_SERVERS is not set; the tests are run by npm test')
  const asking = request(address + path, { method, agent: false }).end()
  const [answer] = (await once(asking, 'response')) as [IncomingMessage]
  const said = await text(answer)
  if (answer.statusCode !== 200) throw new Error(`${method} ${path} of the tests' servers: ${said}`)
  return JSON.parse(said) as T
}

export type SuiteDatabase = { readonly url: string; drop(): Promise<void> }

/** A database of a suite's own, on the server that all suites share. @param given `empty` has no schema yet */
export async function createDatabase(given: 'migrated' | 'empty' = 'migrated'): Promise<SuiteDatabase> {
  const { url } = await ask<{ url: string }>('POST', given === 'migrated' ? '/database?migrated' : '/database')
  const name = new URL(url).pathname.slice(1)
  return { url, drop: () => ask('DELETE', `/database?name=${name}`) }
}

/** A company of a suite's own in the demo that all suites share. @param given `harbour`: it reads the harbour office’s tables */
export const openCompany = (given?: 'harbour'): Promise<CompanyReady> =>
  ask('POST', given === 'harbour' ? '/company?harbour' : '/company')

/** Where the Chromium answers that all suites share. */
export const sharedBrowser = async (): Promise<string> => (await ask<{ url: string }>('GET', '/browser')).url

/** Puts the keys and certificates of stand-ins into a folder that is not there yet. */
export async function copyStandins(to: string): Promise<void> {
  const { dir } = await ask<{ dir: string }>('GET', '/standins')
  cpSync(dir, to, { recursive: true })
}
