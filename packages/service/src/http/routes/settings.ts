import type { AppSettings } from '@zbell/contract'
import type { Proofs } from '../../people/proofs.ts'
import type { Scope } from '../../store/apps/apps.ts'
import { changeSettings, readSettings } from '../../store/apps/settings.ts'
import { whereOf } from '../../store/apps/where.ts'
import type { Database } from '../../store/database.ts'
import { wakeQuiet } from '../../store/notifications/read-waiting.ts'
import type { OperationRouter } from '../serve-operation.ts'

export function serveSettings(on: OperationRouter, database: Database, proofs: Proofs): void {
  const view = async (scope: Scope): Promise<AppSettings> => {
    const { proofKey, ...settings } = await readSettings(database, scope)
    return { ...(settings as Omit<AppSettings, 'proofKey'>), proofKey: proofKey !== null }
  }
  on.serve('readSettings', ({ caller: { scope } }) => view(scope))
  on.serve('changeSettings', async ({ caller: { scope }, body }) => {
    await changeSettings(database, scope, body)
    if (body.quietHours !== undefined) await wakeQuiet(database, whereOf(scope))
    return view(scope)
  })
  on.serve('makeProofKey', async ({ caller: { scope } }) => ({ key: await proofs.makeKey(scope) }))
}
