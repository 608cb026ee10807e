import type { App } from '@zbell/contract'
import { type AppRow, createApp, findApp, listApps } from '../../store/apps/apps.ts'
import { createKey } from '../../store/apps/keys.ts'
import type { Database } from '../../store/database.ts'
import { NameTaken } from '../../store/errors.ts'
import { hashSecret, newSecret } from '../../vault/secrets.ts'
import { Problem } from '../problem.ts'
import type { OperationRouter } from '../serve-operation.ts'

export const appView = (row: AppRow): App => ({
  slug: row.slug,
  name: row.name,
  identifiers: Object.fromEntries(
    Object.entries(row.identifiers).filter(([, value]) => value !== undefined),
  ) as App['identifiers'],
  createdAt: row.createdAt.toISOString(),
})

export function serveApps(on: OperationRouter, database: Database): void {
  const needApp = async (slug: string): Promise<AppRow> => {
    const app = await findApp(database, slug)
    if (!app) throw new Problem('unknown-app')
    return app
  }

  on.serve('listApps', async () => ({ items: (await listApps(database)).map(appView), next: null }))

  on.serve('makeApp', async ({ body }) => {
    const row = { ...body, identifiers: body.identifiers as AppRow['identifiers'], createdAt: new Date() }
    try {
      await createApp(database, row)
    } catch (error) {
      if (error instanceof NameTaken) throw new Problem('name-taken', `There is an app named ${body.slug} already.`)
      throw error
    }
    return appView({ ...row, no: 0 })
  })

  on.serve('makeKey', async ({ params, body }) => {
    const app = await needApp(params.app)
    const key = newSecret(body.kind)
    await createKey(database, { ...body, appNo: app.no, hash: hashSecret(key), createdAt: new Date() })
    return { key, ...body }
  })
}
