import type { Credential as CredentialView } from '@zbell/contract'
import { neededFault } from '@zbell/contract'
import { expiryDue, isUuid, type Platform, sayVerdict } from '@zbell/core'
import type { CredentialChecks } from '../../credentials/checks.ts'
import { type CredentialDesk, ExtrasMissing } from '../../credentials/desk.ts'
import { CredentialRefused, type Refusal, refusals } from '../../credentials/refusals.ts'
import { Problem } from '../../problems/problem.ts'
import type { Scope } from '../../store/apps/apps.ts'
import {
  type CredentialRow,
  findCredential,
  listCredentials,
  placeCredential,
  retireCredential,
} from '../../store/apps/credentials.ts'
import type { Database } from '../../store/database.ts'
import type { OperationRouter } from '../serve-operation.ts'
import { numberAtPlace, pageView } from '../views.ts'

const iso = (at: Date | null): string | null => at?.toISOString() ?? null

const viewOf = (row: CredentialRow, gatewayOutdatedFrom: string | null): CredentialView => ({
  id: row.id,
  kind: row.kind,
  platform: row.platform,
  environment: row.environment,
  state: row.slot ?? (row.retiredAt ? 'retired' : 'requested'),
  fingerprint: row.fingerprint,
  subject: row.subject,
  serial: row.serial,
  keyId: row.keyId,
  issuer: row.issuer,
  notBefore: iso(row.notBefore),
  notAfter: iso(row.notAfter),
  expiresWithinDays: row.notAfter ? (expiryDue(row.notAfter.getTime(), Date.now()) ?? null) : null,
  gatewayOutdatedFrom,
  addedAt: row.createdAt.toISOString(),
  addedBy: row.addedBy,
  retiredAt: iso(row.retiredAt),
  retiredBy: row.retiredBy,
  usedAt: iso(row.usedAt),
  rejectedAt: iso(row.rejectedAt),
  check: checkView(row),
})

function checkView({ verdict, checkedAt, roundTripMs }: CredentialRow): CredentialView['check'] {
  if (!verdict || !checkedAt) return null
  return { verdict: verdict.is, says: sayVerdict(verdict), at: checkedAt.toISOString(), roundTripMs: roundTripMs ?? 0 }
}

/**
 * @param outdatedFrom the day from which a platform's gateway profile is outdated
 * @param onChange the way to a gateway has to be opened anew, and what waited for that may go
 */
export function serveCredentials(
  on: OperationRouter,
  database: Database,
  desk: CredentialDesk,
  checks: CredentialChecks,
  outdatedFrom: (platform: Platform) => string | null,
  onChange: (row: CredentialRow) => Promise<void>,
): void {
  const need = async (scope: Scope, id: string): Promise<CredentialRow> => {
    const found = isUuid(id) ? await findCredential(database, scope, id) : undefined
    if (!found) throw new Problem('unknown-credential')
    return found
  }
  const credentialView = (row: CredentialRow) => viewOf(row, outdatedFrom(row.platform))
  const changed = async (row: CredentialRow): Promise<CredentialView> => {
    await onChange(row)
    return credentialView(row)
  }

  on.serve('addCredential', async ({ caller: { scope, actor }, body }) =>
    changed(await inWords(() => desk.add(scope, body, actor))),
  )
  on.serve('makeCredential', async ({ caller: { scope, actor }, body }) => changed(await desk.make(scope, body, actor)))
  on.serve('requestCertificate', async ({ caller: { scope, actor }, body }) => {
    const { row, pem } = await desk.request(scope, body, actor)
    return { credential: credentialView(row), request: pem }
  })
  on.serve('listCredentials', async ({ caller: { scope }, query: { limit, after } }) => {
    const rows = await listCredentials(database, scope, limit + 1, numberAtPlace(after))
    return pageView(rows, limit, ({ no }) => no, credentialView)
  })
  on.serve('useCredential', async ({ caller: { scope, actor }, params }) => {
    const row = await need(scope, params.id)
    if (row.fingerprint === null) throw new Problem('credential-not-ready')
    await placeCredential(database, row, true, actor)
    return changed(await need(scope, params.id))
  })
  on.serve('checkCredential', async ({ caller: { scope }, params }) => {
    const row = await need(scope, params.id)
    if (row.fingerprint === null) throw new Problem('credential-not-ready')
    await checks.check(row)
    return credentialView(await need(scope, params.id))
  })
  on.serve('retireCredential', async ({ caller: { scope, actor }, params }) => {
    const row = await need(scope, params.id)
    if (!row.retiredAt) await retireCredential(database, row.no, actor)
    return changed(await need(scope, params.id))
  })
}

async function inWords<T>(act: () => Promise<T>): Promise<T> {
  try {
    return await act()
  } catch (error) {
    if (error instanceof ExtrasMissing) {
      const detail = `is needed for a ${error.kind}`
      const faults = error.missing.map((name) => ({ pointer: `/${name}`, detail, code: neededFault }))
      throw new Problem(
        'invalid-request',
        `This is a ${error.kind}; it needs ${error.missing.join(' and ')} as well.`,
        faults,
      )
    }
    if (!(error instanceof CredentialRefused)) throw error
    const { says, does, at = '/files' }: Refusal = refusals[error.code]
    throw new Problem('credential-refused', says, [{ pointer: at, detail: says, code: error.code }], does)
  }
}
