import { existsSync, readFileSync } from 'node:fs'
import { dirname, join } from 'node:path'
import { Client } from '@zbell/contract/client'
import { parse } from 'yaml'
import { UsageError } from './exit-codes.ts'
import type { Io } from './io.ts'

export type ConnectionFlags = {
  readonly url?: string
  readonly key?: string
  readonly app?: string
  readonly environment?: string
  readonly profile?: string
}
export type Connection = {
  readonly client: Client
  readonly app: string
  readonly url: string
  readonly environment: string | undefined
}

const profileName = '.zbell.yaml'

/** Where to call and as whom: flags over the environment over a profile file. @throws {UsageError} when something is missing */
export function connect(flags: ConnectionFlags, io: Io): Connection {
  const profile = readProfile(flags.profile ?? io.env.ZBELL_PROFILE, io.cwd)
  const url = flags.url ?? io.env.ZBELL_URL ?? profile.url
  const key = flags.key ?? io.env.ZBELL_KEY ?? profile.key
  const app = flags.app ?? io.env.ZBELL_APP ?? profile.app
  if (!url) throw new UsageError(missing('the service’s address', '--url', 'ZBELL_URL'))
  if (!key) throw new UsageError(missing('a backend key', '--key', 'ZBELL_KEY'))
  if (!app) throw new UsageError(missing('the app’s name', '--app', 'ZBELL_APP'))
  if (!URL.canParse(url)) throw new UsageError(`${url} is not an address; write it like http://127.0.0.1:7420.`)
  const environment = flags.environment ?? io.env.ZBELL_ENVIRONMENT ?? profile.environment
  const place = url.replace(/\/+$/, '')
  return { client: new Client({ url: place, bearer: key, environment }), app, url: place, environment }
}

const missing = (what: string, flag: string, variable: string): string =>
  `zbell does not know ${what}; give ${flag}, set ${variable}, or run it where "npm run demo" left a ${profileName}.`

type Profile = { readonly url?: string; readonly key?: string; readonly app?: string; readonly environment?: string }

function readProfile(named: string | undefined, cwd: string): Profile {
  const file = named ?? nearest(cwd)
  if (file === undefined) return {}
  if (!existsSync(file)) throw new UsageError(`there is no profile ${file}; check --profile and ZBELL_PROFILE.`)
  const read: unknown = parse(readFileSync(file, 'utf8'))
  if (typeof read !== 'object' || read === null)
    throw new UsageError(`${file} is not a profile; it wants url, key and app.`)
  return Object.fromEntries(Object.entries(read).filter(([, value]) => typeof value === 'string')) as Profile
}

/** The profile of this folder or of one above it. */
function nearest(from: string): string | undefined {
  const file = join(from, profileName)
  if (existsSync(file)) return file
  const above = dirname(from)
  return above === from ? undefined : nearest(above)
}
