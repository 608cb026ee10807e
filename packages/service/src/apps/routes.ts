import { randomBytes } from 'node:crypto'
import type { App, Key } from '@zbell/contract'
import { isUuid, uuidV7 } from '@zbell/core'
import { type Api, numberAtPlace, pageView } from '../api/index.ts'
import { Problem } from '../base/index.ts'
import { type AppRow, type Database, isDuplicate } from '../database/index.ts'
import { hashSecret, newSecret } from '../vault/index.ts'
import { changeApp, createApp, findApp, listApps } from './store/apps.ts'
import { createKey, type KeyRow, listKeys, revokeKey } from './store/keys.ts'

export const appView = (row: AppRow): App => ({
  slug: row.slug,
  name: row.name,
  identifiers: Object.fromEntries(
    Object.entries(row.identifiers).filter(([, value]) => value !== undefined),
  ) as App['identifiers'],
  createdAt: row.createdAt.toISOString(),
})

const keyView = (row: KeyRow): Key => ({
  id: row.id,
  kind: row.kind,
  environment: row.environment,
  name: row.name,
  role: row.role,
  createdAt: row.createdAt.toISOString(),
  createdBy: row.madeBy,
  usedAt: row.usedAt?.toISOString() ?? null,
  revokedAt: row.revokedAt?.toISOString() ?? null,
  revokedBy: row.revokedBy,
})

/** @param onRevoked open streams look again whether they may go on */
export function serveApps(api: Api, database: Database, onRevoked: () => void): void {
  const need = async (slug: string): Promise<AppRow> => {
    const app = await findApp(database, slug)
    if (!app) throw new Problem('unknown-app')
    return app
  }

  api.serve('listApps', async ({ query: { limit, after } }) =>
    pageView(await listApps(database, limit + 1, numberAtPlace(after)), limit, ({ no }) => no, appView),
  )

  api.serve('makeApp', async ({ body }) => {
    const row = { ...body, identifiers: body.identifiers as AppRow['identifiers'], createdAt: new Date() }
    try {
      await createApp(database, row)
    } catch (error) {
      if (isDuplicate(error, 'slug')) throw new Problem('name-taken', `There is an app named ${body.slug} already.`)
      throw error
    }
    return appView({ ...row, no: 0 })
  })

  api.serve('readApp', async ({ caller }) => appView(caller.scope.app))

  api.serve('changeApp', async ({ params, body }) => {
    const { no } = await need(params.app)
    await changeApp(database, no, body)
    return appView(await need(params.app))
  })

  api.serve('listKeys', async ({ params, query: { limit, after } }) => {
    const rows = await listKeys(database, (await need(params.app)).no, limit + 1, numberAtPlace(after))
    return pageView(rows, limit, ({ no }) => no, keyView)
  })

  api.serve('makeKey', async ({ caller, params, body }) => {
    const app = await need(params.app)
    const key = newSecret(body.kind)
    const createdAt = new Date()
    const row = {
      ...body,
      id: uuidV7(createdAt.getTime(), randomBytes(10)),
      appNo: app.no,
      role: body.kind === 'backend' ? (body.role ?? 'viewer') : null,
      createdAt,
      madeBy: caller.actor,
    }
    await createKey(database, { ...row, hash: hashSecret(key) })
    return { ...keyView({ ...row, no: 0, usedAt: null, revokedAt: null, revokedBy: null }), key }
  })

  api.serve('revokeKey', async ({ caller, params }) => {
    const app = await need(params.app)
    const row = isUuid(params.id) ? await revokeKey(database, app.no, params.id, caller.actor) : undefined
    if (!row) throw new Problem('unknown-key-id')
    onRevoked()
    return keyView(row)
  })
}
