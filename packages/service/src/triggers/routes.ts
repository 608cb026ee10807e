import { type Firing, type Trigger, triggerName } from '@zbell/contract'
import type { TriggerDefinition } from '@zbell/core/triggers'
import { type Api, checkName, numberAtPlace, pageByName, pageView } from '../api/index.ts'
import { readSettings } from '../apps/index.ts'
import { type Database, type Scope, whereOf } from '../database/index.ts'
import { type FiringRow, listFirings } from './store/firings.ts'
import { maxAnHour, type TriggerRow, triggerStore } from './store/triggers.ts'
import type { Triggers } from './triggers.ts'

export function serveTriggers(api: Api, database: Database, triggers: Triggers): void {
  api.serve('listTriggers', async ({ caller: { scope }, query }) =>
    pageByName(
      query,
      (limit, after) => triggerStore.list(database, whereOf(scope), limit, after),
      await viewIn(database, scope),
    ),
  )

  const view = async (scope: Scope, row: TriggerRow) => (await viewIn(database, scope))(row)

  api.serve('readTrigger', async ({ caller: { scope }, params }) =>
    view(scope, await triggers.require(scope, params.trigger)),
  )

  api.serve('saveTrigger', async ({ caller: { scope, actor }, params: { trigger: name }, body }) => {
    checkName(triggerName, 'trigger', name)
    return view(
      scope,
      await triggers.save(scope, name, body as TriggerDefinition & { readonly enabled?: boolean }, actor),
    )
  })

  api.serve('changeTrigger', async ({ caller: { scope }, params, body }) =>
    view(scope, await triggers.enable(scope, params.trigger, body.enabled)),
  )

  api.serve('deleteTrigger', async ({ caller: { scope }, params }) => {
    await triggers.delete(scope, params.trigger)
    return undefined
  })

  api.serve('tryTrigger', async ({ caller: { scope }, params, body }) => {
    const { cases, ...tried } = await triggers.try(scope, params.trigger, body)
    return { ...tried, cases: cases.map(({ parts, ...one }) => ({ ...one, parts: [...parts] })) }
  })

  api.serve('ringTrigger', async ({ caller: { scope, actor }, params, body }) =>
    triggers.ringOnly(scope, params.trigger, body, actor),
  )

  api.serve('listFirings', async ({ caller: { scope }, params, query: { limit, after } }) => {
    const { no } = await triggers.require(scope, params.trigger)
    const rows = await listFirings(database, no, limit + 1, numberAtPlace(after))
    return pageView(rows, limit, (row) => String(row.no), firingView)
  })
}

/** How triggers of an app are shown. */
async function viewIn(database: Database, scope: Scope): Promise<(row: TriggerRow) => Trigger> {
  const { runawayFloor } = await readSettings(database, scope)
  return (row) => triggerView(row, runawayFloor)
}

const triggerView = (
  { name, version, definition, enabled, pausedBecause, busiest, unmatched, madeBy, changedAt }: TriggerRow,
  floor: number,
): Trigger => ({
  name,
  version,
  definition: definition as never,
  enabled,
  pausedBecause,
  maxAnHour: maxAnHour(busiest, floor),
  unmatched,
  madeBy,
  changedAt: changedAt.toISOString(),
})

const firingView = ({ at, dueAt, given, ...row }: FiringRow): Firing => ({
  ...row,
  given: given as never,
  at: at.toISOString(),
  dueAt: dueAt?.toISOString() ?? null,
})
