import type { Credential as CredentialView } from '@zbell/contract'
import { neededFault, optionalFault } from '@zbell/contract'
import { type CheckVerdict, expiryDue, isUuid, platforms, sayVerdict } from '@zbell/core'
import { type Api, numberAtPlace, pageView } from '../api/index.ts'
import { Problem } from '../base/index.ts'
import type { Database, GatewayPlace, OnGateway, Scope } from '../database/index.ts'
import { CredentialRefused, type Refusal, refusals } from './refusals.ts'
import type { CredentialRegistry } from './registry.ts'
import { CredentialWaits } from './registry.ts'
import { ExtrasMissing } from './secret-of.ts'
import {
  type CredentialRow,
  findCredential,
  listCredentials,
  placeCredential,
  retireCredential,
} from './store/credentials.ts'

/** Asks a gateway whether it accepts a credential. */
export type CredentialCheck = {
  check(row: CredentialRow): Promise<{ readonly verdict: CheckVerdict; readonly roundTripMs: number }>
}

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
  facts: row.facts ?? {},
  origins: [...(row.origins ?? [])],
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

export function serveCredentials(
  api: Api,
  database: Database,
  {
    registry,
    checks,
    onGateway,
    outdatedFrom,
  }: {
    readonly registry: CredentialRegistry
    readonly checks: CredentialCheck
    readonly onGateway: OnGateway
    /** The day from which a gateway's profile is outdated. */
    readonly outdatedFrom: (place: GatewayPlace) => Promise<string | null>
  },
): void {
  const need = async (scope: Scope, id: string): Promise<CredentialRow> => {
    const found = isUuid(id) ? await findCredential(database, scope, id) : undefined
    if (!found) throw new Problem('unknown-credential')
    return found
  }
  const credentialView = async (row: CredentialRow) => viewOf(row, await outdatedFrom(row))
  const changed = async (row: CredentialRow): Promise<CredentialView> => {
    await onGateway(row, row.slot === 'in-use')
    return credentialView(row)
  }

  api.serve('addCredential', async ({ caller: { scope, actor }, body }) =>
    changed(await inWords(() => registry.add(scope, body, actor))),
  )
  api.serve('makeCredential', async ({ caller: { scope, actor }, body }) =>
    changed(await inWords(() => registry.make(scope, body, actor))),
  )
  api.serve('requestCertificate', async ({ caller: { scope, actor }, body }) => {
    const { row, pem } = await registry.request(scope, body, actor)
    return { credential: await credentialView(row), request: pem }
  })
  api.serve('listCredentials', async ({ caller: { scope }, query: { limit, after } }) => {
    const rows = await listCredentials(database, scope, limit + 1, numberAtPlace(after))
    const outdated = new Map(
      await Promise.all(
        platforms.map(async (platform) => {
          const place = { appNo: scope.app.no, environment: scope.environment, platform }
          return [platform, await outdatedFrom(place)] as const
        }),
      ),
    )
    return pageView(
      rows,
      limit,
      ({ no }) => no,
      (row) => viewOf(row, outdated.get(row.platform) ?? null),
    )
  })
  api.serve('useCredential', async ({ caller: { scope, actor }, params, query }) => {
    const row = await need(scope, params.id)
    if (row.fingerprint === null) throw new Problem('credential-not-ready')
    // One that comes back from retirement is a third.
    if (row.slot === null) await inWords(() => registry.requireSlot(scope, row.platform, query.retires))
    await placeCredential(database, row, true, actor)
    return changed(await need(scope, params.id))
  })
  api.serve('checkCredential', async ({ caller: { scope }, params }) => {
    const row = await need(scope, params.id)
    if (row.fingerprint === null) throw new Problem('credential-not-ready')
    await checks.check(row)
    return credentialView(await need(scope, params.id))
  })
  api.serve('changeCredential', async ({ caller: { scope }, params, body: { facts } }) => {
    const row = await need(scope, params.id)
    return changed(await inWords(() => registry.sayFacts(scope, row, facts)))
  })
  api.serve('retireCredential', async ({ caller: { scope, actor }, params }) => {
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
      const faults = error.missing.map(({ name, looksLike, optional }) => ({
        pointer: `/${name}`,
        detail: optional ? `may be said for a ${error.kind}` : `is needed for a ${error.kind}`,
        code: optional ? optionalFault : neededFault,
        ...(looksLike === undefined ? {} : { looksLike }),
      }))
      const needed = error.missing
        .filter(({ optional }) => !optional)
        .map(({ name }) => name.replace('facts/', 'the fact '))
      throw new Problem('invalid-request', `This is a ${error.kind}; it needs ${needed.join(' and ')} as well.`, faults)
    }
    if (error instanceof CredentialWaits)
      throw new Problem('credential-waits', error.message, [
        { pointer: '/retires', detail: 'names the one that is to be retired', looksLike: error.id },
      ])
    if (!(error instanceof CredentialRefused)) throw error
    const { does, at = '/files' }: Refusal = refusals[error.code]
    const says = error.message
    throw new Problem('credential-refused', says, [{ pointer: error.at ?? at, detail: says, code: error.code }], does)
  }
}
