import { randomBytes } from 'node:crypto'
import type { Handset, Page } from '@zbell/contract'
import { uuidV7 } from '@zbell/core'
import type { Api } from '../api/index.ts'
import { createKey } from '../apps/index.ts'
import { Problem } from '../base/index.ts'
import type { Database, Scope } from '../database/index.ts'
import { hashSecret, newSecret } from '../vault/index.ts'
import { type HandsetControl, HandsetsAway, HandsetsRefused } from './handset-control.ts'

/**
 * Handsets run beside the service; it hands their calls on, so that whoever uses them needs one address and one key.
 * @param ownUrl where this service is, for handsets to call
 */
export function serveHandsets(api: Api, database: Database, control: HandsetControl, ownUrl: () => string): void {
  const call = async <T>(method: string, path: string, body?: unknown): Promise<T> => {
    try {
      return await control.call<T>(method, path, body)
    } catch (error) {
      if (error instanceof HandsetsAway) throw new Problem('handsets-not-available', error.message)
      if (error instanceof HandsetsRefused) throw new Problem(error.code, error.message)
      throw error
    }
  }
  const place = (app: string, id?: string) =>
    `/apps/${encodeURIComponent(app)}/handsets${id === undefined ? '' : `/${encodeURIComponent(id)}`}`

  /** They live in development, and are none of production's. */
  const handset = <T>(
    { scope }: { readonly scope: Scope },
    method: string,
    path: string,
    body?: unknown,
  ): Promise<T> => {
    if (scope.environment !== 'development') throw new Problem('not-in-production')
    return call<T>(method, path, body)
  }

  api.serve('listHandsets', async ({ caller: { scope }, params }) =>
    scope.environment === 'development'
      ? call<Page<Handset> & { items: Handset[] }>('GET', place(params.app))
      : { items: [], next: null },
  )
  api.serve('readHandset', ({ caller, params }) => handset<Handset>(caller, 'GET', place(params.app, params.id)))
  api.serve('tapHandset', ({ caller, params, body }) =>
    handset<Handset>(caller, 'POST', `${place(params.app, params.id)}/tap`, body),
  )
  api.serve('changeHandset', ({ caller, params, body }) =>
    handset<Handset>(caller, 'PATCH', place(params.app, params.id), body),
  )
  api.serve('actOnHandset', ({ caller, params, body }) =>
    handset<Handset>(caller, 'POST', `${place(params.app, params.id)}/do`, body),
  )
  api.serve('deleteHandset', async ({ caller, params }) => {
    await handset(caller, 'DELETE', place(params.app, params.id))
    return undefined
  })
  api.serve('makeHandset', async ({ caller: { scope, actor, role }, params, body }) => {
    if (scope.environment !== 'development') throw new Problem('not-in-production')
    try {
      return await call<Handset>('POST', place(params.app), body)
    } catch (error) {
      // The first of an app, or its key was revoked: handsets register with a key of their own, as any installation does.
      if (!(error instanceof Problem) || error.code !== 'unknown-key') throw error
      if (role !== 'owner')
        throw new Problem('not-allowed', 'The first handset of an app makes an app key, and only an owner makes keys.')
      const service = { url: ownUrl(), appKey: await keyForHandsets(database, scope, actor) }
      return call<Handset>('POST', place(params.app), { ...body, service })
    }
  })
}

async function keyForHandsets(database: Database, scope: Scope, actor: string): Promise<string> {
  const key = newSecret('app')
  const createdAt = new Date()
  await createKey(database, {
    id: uuidV7(createdAt.getTime(), randomBytes(10)),
    appNo: scope.app.no,
    environment: scope.environment,
    kind: 'app',
    role: null,
    name: 'Virtual handsets',
    hash: hashSecret(key),
    createdAt,
    madeBy: actor,
  })
  return key
}
