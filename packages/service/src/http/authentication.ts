import { type Caller, type Operation, type Role, roles } from '@zbell/contract'
import type { Environment } from '@zbell/core'
import type { Request } from 'express'
import { cookie, csrfOf, findSession, sessionCookieName } from '../accounts/index.ts'
import type { CallerOf } from '../api/index.ts'
import { findApp, findKeys, type HeldKey } from '../apps/index.ts'
import { Lookup, Problem } from '../base/index.ts'
import type { AppRow, Database, DeviceRow, Scope } from '../database/index.ts'
import { findDevicesBySecrets } from '../devices/index.ts'
import { hashSecret, sameSecret } from '../vault/index.ts'
import { LatelyFound } from './lately-found.ts'

const reading = new Set(['GET', 'HEAD'])

/** Finds out who calls, or refuses. */
export class CallerCheck {
  readonly #database: Database
  readonly #operatorKey: string
  readonly #sessionCookie: string
  readonly #keys: Lookup<HeldKey>
  readonly #devices: Lookup<{ device: DeviceRow; app: AppRow }>
  readonly #lately = new LatelyFound()

  /** @param isSecure whether people reach the console by https */
  constructor(database: Database, operatorKey: string, isSecure: boolean) {
    this.#sessionCookie = sessionCookieName(isSecure)
    this.#database = database
    this.#operatorKey = operatorKey
    this.#keys = new Lookup(
      (hashes) => findKeys(database, hashes),
      (row) => row.hash,
    )
    this.#devices = new Lookup(
      (hashes) => findDevicesBySecrets(database, hashes),
      ({ device }) => device.secretHash,
    )
  }

  async check({ caller, role }: Pick<Operation, 'caller' | 'role'>, request: Request): Promise<CallerOf<Caller>> {
    switch (caller) {
      case 'anyone':
        return undefined
      case 'operator':
        return this.#operator(request, role)
      case 'console':
        return this.#console(request)
      case 'app':
        return this.#app(request, role)
      case 'installed-app': {
        const key = await this.#key(request)
        if (key.kind !== 'app')
          throw new Problem('not-allowed', 'A backend key stays on the server; an installed app uses an app key.')
        return { scope: key }
      }
      case 'device':
        return this.#device(request)
      default:
        return caller satisfies never
    }
  }

  /**
   * Where the key that a request holds led a moment ago. It allows nothing: only looking up, while it is asked again, what
   * its holder will want to know.
   */
  likelyScope(request: Request): Scope | undefined {
    const given = bearer(request)
    return given === undefined ? undefined : this.#lately.scope(hashSecret(given))
  }

  /** The operator; and where a role stands, an account that has it. */
  async #operator(request: Request, role: Role | undefined): Promise<CallerOf<'operator'>> {
    const given = bearer(request)
    if (given === undefined && role !== undefined) return { actor: (await this.#account(request, role)).actor }
    if (!sameSecret(requireBearer(request), this.#operatorKey))
      throw new Problem('unknown-key', 'This is not the operator’s key.')
    return { actor: 'operator' }
  }

  async #console(request: Request): Promise<CallerOf<'console'>> {
    const token = cookie(request, this.#sessionCookie)
    const sessionHash = token === undefined ? undefined : hashSecret(token)
    const account = sessionHash && (await findSession(this.#database, sessionHash, new Date()))
    if (!token || !sessionHash || !account) throw new Problem('not-signed-in')
    const csrf = csrfOf(token)
    if (!reading.has(request.method) && request.get('x-bell-csrf') !== csrf) throw new Problem('csrf-refused')
    return { account, csrf, sessionHash }
  }

  async #app(request: Request, role: Role | undefined): Promise<CallerOf<'app'>> {
    const given = bearer(request)
    const least = role ?? (reading.has(request.method) ? 'viewer' : 'sender')
    if (given === undefined) {
      const account = await this.#account(request, least)
      return { scope: await this.#namedScope(request), ...account, isKey: false }
    }
    if (sameSecret(given, this.#operatorKey))
      return { scope: await this.#namedScope(request), actor: 'operator', role: 'owner', isKey: false }
    return this.#appByKey(request, least)
  }

  /** @returns the name under which an account acts, and as what */
  async #account(request: Request, least: Role): Promise<{ readonly actor: string; readonly role: Role }> {
    const { account } = await this.#console(request)
    requireRole(account.role, least, `${account.email} is a ${account.role}`)
    return { actor: `account:${account.email}`, role: account.role }
  }

  /** Whoever has no key of one app and environment says which are meant. */
  async #namedScope(request: Request): Promise<Scope> {
    const environment = environmentOf(request)
    if (!environment)
      throw new Problem('invalid-request', 'Say which environment: ?environment=development or production.')
    const app = await findApp(this.#database, String(request.params.app))
    if (!app) throw new Problem('unknown-app')
    return { app, environment }
  }

  async #appByKey(request: Request, least: Role): Promise<CallerOf<'app'>> {
    const key = await this.#key(request)
    // Whose key it is not learns nothing of the app, not even that it is there.
    if (key.app.slug !== request.params.app)
      throw new Problem('unknown-app', 'This key belongs to another app, or there is no such app.')
    if (key.kind !== 'backend')
      throw new Problem('not-allowed', 'An app key only registers devices; use a backend key.')
    const wanted = environmentOf(request)
    if (wanted && wanted !== key.environment)
      throw new Problem('wrong-environment', `This key is for ${key.environment}.`)
    // A key that was made before keys had roles did all.
    const role = key.role ?? 'owner'
    requireRole(role, least, `the key “${key.name}” is a ${role}’s`)
    return { scope: key, actor: `key:${key.name}`, role, isKey: true }
  }

  async #key(request: Request) {
    const hash = hashSecret(requireBearer(request))
    const key = await this.#keys.find(hash)
    this.#lately.note(hash, key && { app: key.app, environment: key.environment })
    if (!key) throw new Problem('unknown-key')
    return key
  }

  async #device(request: Request): Promise<CallerOf<'device'>> {
    const found = await this.#devices.find(hashSecret(requireBearer(request)))
    if (!found) throw new Problem('unknown-key', 'This is no device’s secret; register again to get a new one.')
    const { device, app } = found
    return { device, scope: { app, environment: device.environment } }
  }
}

function requireRole(has: Role, least: Role, who: string): void {
  if (roles.indexOf(has) < roles.indexOf(least))
    throw new Problem('not-allowed', `This takes the role ${least}; ${who}.`)
}

function bearer(request: Request): string | undefined {
  const [scheme, token] = request.get('authorization')?.split(' ') ?? []
  return scheme?.toLowerCase() === 'bearer' && token ? token : undefined
}

export function requireBearer(request: Request): string {
  const token = bearer(request)
  if (token === undefined) throw new Problem('not-signed-in')
  return token
}

function environmentOf(request: Request): Environment | undefined {
  const given = request.query.environment
  if (given === undefined) return undefined
  if (given !== 'development' && given !== 'production') {
    throw new Problem('invalid-request', 'The environment is development or production.', [
      { pointer: '?environment', detail: 'is neither development nor production' },
    ])
  }
  return given
}
