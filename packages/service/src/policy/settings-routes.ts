import type { AppSettings } from '@zbell/contract'
import type { Proofs } from '../devices/proofs.ts'
import type { Scope } from '../database/scope.ts'
import { changeSettings, readSettings } from '../apps/store/settings.ts'
import { whereOf } from '../database/scope.ts'
import type { Database } from '../database/database.ts'
import { wakeQuiet } from './store/read-waiting.ts'
import type { Api } from '../api/api.ts'

export function serveSettings(api: Api, database: Database, proofs: Proofs): void {
  const view = async (scope: Scope): Promise<AppSettings> => {
    const { proofKey, ...settings } = await readSettings(database, scope)
    return { ...(settings as Omit<AppSettings, 'proofKey'>), proofKey: proofKey !== null }
  }
  api.serve('readSettings', ({ caller: { scope } }) => view(scope))
  api.serve('changeSettings', async ({ caller: { scope }, body }) => {
    await changeSettings(database, scope, body)
    if (body.quietHours !== undefined) await wakeQuiet(database, whereOf(scope))
    return view(scope)
  })
  api.serve('makeProofKey', async ({ caller: { scope } }) => ({ key: await proofs.makeKey(scope) }))
}
