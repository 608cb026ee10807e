import { existsSync, readFileSync, statSync } from 'node:fs'
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
  const { file, ...profile } = readProfile(flags.profile ?? io.env.ZBELL_PROFILE, io.cwd)
  const [ownUrl, ownKey] = [flags.url ?? io.env.ZBELL_URL, flags.key ?? io.env.ZBELL_KEY]
  const url = ownUrl ?? profile.url
  const key = ownKey ?? profile.key
  // Whoever leaves a file in a folder must not be sent the key of whoever works there; nor does a file's key go elsewhere.
  // The same key, or the same address, given again is no other.
  const goesElsewhere = ownUrl !== undefined && ownUrl !== profile.url && ownKey === undefined
  const comesFromElsewhere = ownKey !== undefined && ownKey !== profile.key && ownUrl === undefined
  if (url && key && (goesElsewhere || comesFromElsewhere))
    throw new UsageError(
      `the ${ownUrl === undefined ? 'address' : 'key'} is from ${file} and the ${ownUrl === undefined ? 'key' : 'address'} is not; give both yourself, with --url and --key, or neither.`,
    )
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

/** @throws {UsageError} for a file that holds a key and that others could have written or can read */
function requireOwn(file: string): void {
  const { uid, mode } = statSync(file)
  const own = process.getuid?.()
  // There are no such owners and modes where there is no such call.
  if (own === undefined) return
  if (uid !== own) throw new UsageError(`${file} belongs to another user, and is not read; make one of your own.`)
  if ((mode & 0o077) !== 0)
    throw new UsageError(`${file} can be read or written by others, and it holds a key; change that: chmod 600 ${file}`)
}

function readProfile(named: string | undefined, cwd: string): Profile & { readonly file?: string } {
  const file = named ?? nearest(cwd)
  if (file === undefined) return {}
  if (!existsSync(file)) throw new UsageError(`there is no profile ${file}; check --profile and ZBELL_PROFILE.`)
  requireOwn(file)
  const read: unknown = parse(readFileSync(file, 'utf8'))
  if (typeof read !== 'object' || read === null)
    throw new UsageError(`${file} is not a profile; it wants url, key and app.`)
  return {
    ...(Object.fromEntries(Object.entries(read).filter(([, value]) => typeof value === 'string')) as Profile),
    file,
  }
}

/** The profile of this folder or of one above it. */
function nearest(from: string): string | undefined {
  const file = join(from, profileName)
  if (existsSync(file)) return file
  const above = dirname(from)
  return above === from ? undefined : nearest(above)
}
