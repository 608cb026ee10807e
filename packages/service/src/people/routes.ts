import type { Attribute, Person } from '@zbell/contract'
import { isAttributeName, isUserName } from '@zbell/core'
import { type Api, pageView, sortedPlace } from '../api/index.ts'
import { invalid, Problem } from '../base/index.ts'
import { type Database, placeOf, type Scope } from '../database/index.ts'
import { deviceView, ensureUser, listDevices } from '../devices/index.ts'
import { mutedChannelsOf, quietHoursOf } from '../policy/index.ts'
import { inWords, occurrenceOf, refuseOurNames } from './attributes-in.ts'
import {
  type AttributeRow,
  attributesOf,
  changeAttributes,
  declareAttribute,
  listAttributes,
} from './store/attributes.ts'
import { findUser, listUsers, type UserRow } from './store/list-people.ts'
import { occurrencesOf, storeOccurrences } from './store/occurrences.ts'
import { topicsOfUsers } from './store/topics.ts'

/** What is listed of one person at most. */
const maxShown = 100

/** What an app's server and its owners know of people. */
export function servePeople(api: Api, database: Database, onChange: () => void): void {
  api.serve('listUsers', async ({ caller: { scope }, query }) => {
    const rows = await listUsers(database, scope, {
      ...query,
      after: sortedPlace(query.after),
      limit: query.limit + 1,
    })
    const numbers = rows.slice(0, query.limit).map(({ no }) => no)
    const [attributes, topics] = await Promise.all([attributesOf(database, numbers), topicsOfUsers(database, numbers)])
    return pageView(rows, query.limit, placeOf, (row) => personView(row, attributes.get(row.no), topics.get(row.no)))
  })

  api.serve('readUser', async ({ caller: { scope }, params }) => {
    const row = await requireUser(database, scope, params.user)
    const [attributes, topics] = await Promise.all([
      attributesOf(database, [row.no]),
      topicsOfUsers(database, [row.no]),
    ])
    const own = await listDevices(database, scope, { user: params.user, limit: maxShown })
    return {
      ...personView(row, attributes.get(row.no), topics.get(row.no)),
      quietHours: [...((await quietHoursOf(database, [row.no])).get(row.no) ?? [])] as never,
      mutedChannels: await mutedChannelsOf(database, row.no),
      devices: own.map(deviceView),
      occurrences: (await occurrencesOf(database, row.no, maxShown)).map(({ at, data, ...one }) => ({
        ...one,
        at: at.toISOString(),
        data: (data ?? null) as null,
      })),
    }
  })

  api.serve('changeUserAttributes', async ({ caller: { scope }, params, body }) => {
    if (!isUserName(params.user)) throw new Problem('unknown-user', 'This cannot be the name of a user.')
    const no = await inWords(() =>
      database.transact(async (tx) => {
        const user = await ensureUser(tx, scope, params.user)
        await changeAttributes(tx, scope, user, body, false)
        return user
      }),
    )
    onChange()
    return (await attributesOf(database, [no])).get(no) ?? {}
  })

  api.serve('listAttributes', async ({ caller: { scope } }) => ({
    items: (await listAttributes(database, scope)).map(attributeView),
    next: null,
  }))

  api.serve('changeAttribute', async ({ caller: { scope }, params, body }) => {
    if (!isAttributeName(params.name)) throw invalid('', 'names no attribute: letters, digits, hyphens and underscores')
    return attributeView(await inWords(() => declareAttribute(database, scope, params.name, body)))
  })

  api.serve('reportOccurrences', async ({ caller: { scope }, body }) => {
    const all = [body].flat()
    refuseOurNames(all, Array.isArray(body))
    const taken = await storeOccurrences(
      database,
      scope,
      all.map((one) => ({ ...occurrenceOf(one), user: one.subject })),
      { is: 'server' },
    )
    return { taken, known: all.length - taken }
  })
}

export async function requireUser(database: Database, scope: Scope, name: string): Promise<UserRow> {
  const row = isUserName(name) ? await findUser(database, scope, name) : undefined
  if (!row) throw new Problem('unknown-user')
  return row
}

const personView = (row: UserRow, attributes: Person['attributes'] = {}, topics: readonly string[] = []): Person => ({
  user: row.name,
  attributes,
  devices: row.devices,
  topics: [...topics],
  createdAt: row.createdAt.toISOString(),
  changedAt: row.changedAt.toISOString(),
})

const attributeView = ({ name, type, devicesMay, createdAt }: AttributeRow): Attribute => ({
  name,
  type,
  devicesMay,
  createdAt: createdAt.toISOString(),
})
