import type { AppSettings } from '@zbell/contract'
import type { Api } from '../api/index.ts'
import { changeSettings, readSettings } from '../apps/index.ts'
import { type Database, type Scope, whereOf } from '../database/index.ts'
import type { Proofs } from '../devices/index.ts'
import { wakeQuiet } from './store/read-waiting.ts'

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
