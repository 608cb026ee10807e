import { type Role, type Source, sourceName } from '@zbell/contract'
import { type Api, callerAddress, checkName, pageByName, type RateLimits } from '../api/index.ts'
import { type Database, whereOf } from '../database/index.ts'
import { hiddenSecret, withoutPath } from '../vault/index.ts'
import type { Incoming } from './incoming.ts'
import type { ShownSource, Sources, WrittenSource } from './sources.ts'
import { sourceStore } from './store/sources.ts'

/** @param base where this service answers */
export function serveSources(
  api: Api,
  {
    database,
    limits,
    sources,
    incoming,
  }: {
    readonly database: Database
    readonly limits: RateLimits
    readonly sources: Sources
    readonly incoming: Incoming
  },
  base: () => string,
): void {
  const view = (shown: ShownSource, role: Role): Source => sourceView(shown, base(), role)

  api.serve('listSources', async ({ caller: { scope, role }, query }) => {
    const read = (limit: number, after?: string) => sourceStore.list(database, whereOf(scope), limit, after)
    const { items, next } = await pageByName(query, read, (row) => sources.show(row))
    return { items: (await Promise.all(items)).map((one) => view(one, role)), next }
  })

  api.serve('readSource', async ({ caller: { scope, role }, params }) =>
    view(await sources.show(await sources.require(scope, params.source)), role),
  )

  api.serve('saveSource', async ({ caller: { scope, actor, role }, params: { source: name }, query, body }) => {
    checkName(sourceName, 'source', name)
    const how = { anyway: query.anyway === 'true' }
    return view(await sources.save(scope, name, body as WrittenSource, actor, how), role)
  })

  api.serve('deleteSource', async ({ caller: { scope }, params }) => {
    await sources.delete(scope, params.source)
    return undefined
  })

  api.serve('trySource', async ({ caller: { scope }, params }) => {
    const { columns, rows, came, ...tried } = await sources.try(scope, params.source)
    const kept = came.map((one) => ({ ...one, makes: [...one.makes] }))
    return { ...tried, columns: [...columns], rows: JSON.parse(JSON.stringify(rows)), came: kept as never }
  })

  api.serve('takeIncoming', async ({ params, request, response }) => {
    await limits.incoming(callerAddress(response), params.address, response)
    const headers = Object.fromEntries(
      Object.entries(request.headers).map(([name, value]) => [name, Array.isArray(value) ? value.join(', ') : value]),
    )
    const body: unknown = request.body
    return incoming.take(params.address, headers, Buffer.isBuffer(body) ? body : Buffer.alloc(0))
  })
}

/** Whoever may not change a source is not shown addresses that could be all that is needed to use them. */
const sourceView = ({ row, definition, address, triggers, secret }: ShownSource, base: string, role: Role): Source => ({
  name: row.name,
  version: row.version,
  kind: row.definition.kind,
  definition: (role === 'owner' || definition.url === undefined
    ? definition
    : { ...definition, url: withoutPath(definition.url) }) as never,
  address: address === undefined ? null : `${base}/v1/incoming/${role === 'owner' ? address : hiddenSecret}`,
  secret: secret ?? null,
  polledAt: row.polledAt?.toISOString() ?? null,
  note: row.note,
  leftOut: row.leftOut,
  fault: row.fault,
  faultSince: row.faultSince?.toISOString() ?? null,
  triggers: [...triggers],
  madeBy: row.madeBy,
  changedAt: row.changedAt.toISOString(),
})
