import type { Happened } from '@zbell/core/webhooks'
import { sql } from 'drizzle-orm'
import {
  devices as devicesTable,
  notifications as notificationsTable,
  type Reader,
  select,
  users as usersTable,
} from '../../database/index.ts'
import type { DeliveryGroup, Page } from '../../events/index.ts'

/** What happened, of pages that were just written: names are put in place of numbers. */
export async function readPages(
  reader: Reader,
  pages: readonly Exclude<Page, { is: 'events' }>[],
): Promise<readonly (readonly Happened[])[]> {
  const groups = pages.flatMap((page) => (page.is === 'deliveries' ? page.groups : []))
  const devices = await devicesOf(reader, groups)
  const users = await usersOf(reader, groups)
  const notifications = await notificationsOf(
    reader,
    pages.flatMap((page) => (page.is === 'deliveries' ? [page.notificationNo] : [])),
  )
  return pages.map((page) => {
    if (page.is === 'facts')
      return page.facts.map(([no, fact]) => ({ ...fact, id: `${page.id}-${no}`, atMs: page.atMs }))
    const about = notifications.get(page.notificationNo)
    return about ? page.groups.flatMap((group) => happenedOf(page, group, about, devices, users)) : []
  })
}

type Device = { readonly id: string; readonly platform: string }
type About = { readonly notification: string; readonly sentBy: string }

function happenedOf(
  { id, atMs }: { readonly id: string; readonly atMs: number },
  group: DeliveryGroup,
  { notification, sentBy }: About,
  devices: ReadonlyMap<number, Device>,
  users: ReadonlyMap<number, string>,
): Happened[] {
  const { kind, first, action, reason, status, says } = group
  const more = {
    ...(reason === undefined ? {} : { reason }),
    ...(status === undefined ? {} : { status }),
    ...(says === undefined ? {} : { says }),
    ...(action === undefined ? {} : { action }),
  }
  return group.devices.flatMap((no, at) => {
    const device = devices.get(no)
    if (!device) return []
    const user = users.get(group.users[at] ?? 0) ?? null
    const data = { notification, device: device.id, platform: device.platform, user, sentBy, ...more }
    return [{ id: `${id}-${first + at}`, kind, atMs: atMs + (group.at[at] ?? 0), subject: notification, data }]
  })
}

/** So many are read at a time. */
const atOnce = 2_000

async function readAll<T>(numbers: readonly number[], read: (some: number[]) => Promise<T[]>): Promise<T[]> {
  const all = [...new Set(numbers)]
  const found: T[] = []
  for (let at = 0; at < all.length; at += atOnce) found.push(...(await read(all.slice(at, at + atOnce))))
  return found
}

async function devicesOf(reader: Reader, groups: readonly DeliveryGroup[]): Promise<Map<number, Device>> {
  const rows = await readAll(
    groups.flatMap(({ devices }) => devices),
    (some) =>
      select(
        reader,
        { no: devicesTable.no, id: devicesTable.id, platform: devicesTable.platform },
        sql`from ${devicesTable} where ${devicesTable.no} in ${some}`,
      ),
  )
  return new Map(rows.map(({ no, id, platform }) => [no, { id, platform }]))
}

async function usersOf(reader: Reader, groups: readonly DeliveryGroup[]): Promise<Map<number, string>> {
  const rows = await readAll(
    groups.flatMap(({ users }) => users.filter((no) => no !== 0)),
    (some) =>
      select(
        reader,
        { no: usersTable.no, name: usersTable.name },
        sql`from ${usersTable} where ${usersTable.no} in ${some}`,
      ),
  )
  return new Map(rows.flatMap(({ no, name }) => (name === null ? [] : [[no, name] as const])))
}

async function notificationsOf(reader: Reader, numbers: readonly number[]): Promise<Map<number, About>> {
  const rows = await readAll(numbers, (some) =>
    select(
      reader,
      { no: notificationsTable.no, id: notificationsTable.id, sentBy: notificationsTable.sentBy },
      sql`from ${notificationsTable} where ${notificationsTable.no} in ${some}`,
    ),
  )
  return new Map(rows.map(({ no, id, sentBy }) => [no, { notification: id, sentBy }]))
}
