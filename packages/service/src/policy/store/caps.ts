import { type Cap, CapPage, pageOfPerson } from '@zbell/core/policy'
import { and, eq, lt, sql } from 'drizzle-orm'
import {
  build,
  capPages,
  commas,
  type Database,
  notifications,
  now,
  type Reader,
  select,
  type Tx,
  type Where,
} from '../../database/index.ts'
import type { Claim, Withdrawal } from '../../engine/index.ts'
import { extend, finish } from '../../queue/index.ts'

type StoredPage = { readonly page: number; readonly body: Buffer }

const inScope = ({ appNo, environment }: Where) => sql`app_no = ${appNo} and environment = ${environment}`
const pagesOf = (persons: readonly number[]): number[] => [...new Set(persons.map(pageOfPerson))].sort((a, b) => a - b)

/**
 * Counts a notification for each of these people under each cap that holds for it, and says for whom it would be one too many.
 * Whoever counts for the same people waits, page by page in one order, so that several notifications never pass a cap together.
 * @param persons a user’s number, or that of a device of nobody, below zero
 * @returns the cap that leaves somebody out, by person
 */
export async function countUnderCaps(
  database: Database,
  where: Where,
  notificationNo: number,
  caps: readonly Cap[],
  persons: readonly number[],
): Promise<ReadonlyMap<number, string>> {
  if (caps.length === 0 || persons.length === 0) return new Map()
  return database.transact(async (tx) => {
    const over = new Map<number, string>()
    const [row] = await tx.rows<{ seconds: string; capped: number | null }>(
      sql`select unix_timestamp() as seconds, (select capped from notifications where no = ${notificationNo}) as capped`,
    )
    const nowSeconds = Number(row?.seconds)
    const inOrder = [...caps].sort((a, b) => (a.name < b.name ? -1 : 1))
    const read = new Map<Cap, Map<number, CapPage>>()
    for (const cap of inOrder) read.set(cap, await lockedPages(tx, where, cap, pagesOf(persons)))
    const pageOf = (cap: Cap, person: number) => read.get(cap)!.get(pageOfPerson(person))!
    for (const person of persons) {
      // All or none: one that a cap leaves out counts under no other.
      const full = inOrder.find((cap) => !pageOf(cap, person).mayCount(person, notificationNo, cap, nowSeconds))
      if (full) over.set(person, full.name)
      else for (const cap of inOrder) pageOf(cap, person).count(person, notificationNo, cap, nowSeconds)
    }
    for (const cap of inOrder) await storePages(tx, where, cap, read.get(cap)!, nowSeconds)
    // Its row is what outcomes wait for, so it is not touched for nothing.
    if (row?.capped === 0)
      await tx.change(build.update(notifications).set({ capped: true }).where(eq(notifications.no, notificationNo)))
    return over
  })
}

/** Pages that are this transaction’s until its end; those that were not there are made. */
async function lockedPages(
  tx: Tx,
  where: Where,
  { name }: Cap,
  pages: readonly number[],
): Promise<Map<number, CapPage>> {
  const { appNo, environment } = where
  // Writing comes first: two that made the same page after a look would wait for each other.
  await tx.change(
    sql`insert into cap_pages (app_no, environment, cap, page, body, until_at)
        values ${commas(pages.map((page) => sql`(${appNo}, ${environment}, ${name}, ${page}, '', utc_timestamp(3))`))}
        on duplicate key update page = value(page)`,
  )
  const rows = await select(
    tx,
    { page: capPages.page, body: capPages.body },
    sql`from ${capPages} where ${inScope(where)} and ${capPages.cap} = ${name}
        and ${capPages.page} in ${pages} for update`,
  )
  return new Map(rows.map(({ page, body }) => [page, new CapPage(page, body)]))
}

async function storePages(
  tx: Tx,
  { appNo, environment }: Where,
  { name, hours }: Cap,
  pages: ReadonlyMap<number, CapPage>,
  nowSeconds: number,
): Promise<void> {
  const changed = [...pages].filter(([, page]) => page.changed)
  if (changed.length === 0) return
  const rows = changed.map(
    ([no, page]) =>
      sql`(${appNo}, ${environment}, ${name}, ${no}, ${Buffer.from(page.pack(nowSeconds - hours * 3_600))},
        utc_timestamp(3) + interval ${hours} hour)`,
  )
  await tx.change(
    sql`insert into cap_pages (app_no, environment, cap, page, body, until_at) values ${commas(rows)}
        on duplicate key update body = value(body), until_at = value(until_at)`,
  )
}

/** What counts for people now under each cap, without counting anything. */
export async function usesOf(
  reader: Reader,
  where: Where,
  cap: Cap,
  persons: readonly number[],
  nowMs: number,
): Promise<ReadonlyMap<number, readonly { readonly notificationNo: number; readonly atSeconds: number }[]>> {
  if (persons.length === 0) return new Map()
  const rows = await select(
    reader,
    { page: capPages.page, body: capPages.body },
    sql`from ${capPages} where ${inScope(where)} and ${capPages.cap} = ${cap.name}
        and ${capPages.page} in ${pagesOf(persons)}`,
  )
  const pages = new Map(rows.map(({ page, body }) => [page, new CapPage(page, body)]))
  const since = Math.floor(nowMs / 1_000) - cap.hours * 3_600
  return new Map(persons.map((person) => [person, pages.get(pageOfPerson(person))?.usesOf(person, since) ?? []]))
}

/** So many people are given back in one transaction. */
const batchSize = 2_000

/** What reached nobody’s device counts for them no more, once all is known of a notification: the next page of them. */
export async function refund(database: Database, claim: Claim, after: number, leaseMs: number): Promise<Withdrawal> {
  const { notificationNo } = claim
  return database.transact(async (tx) => {
    const failed = await tx.rows<{ deviceNo: number; person: number; got: number }>(
      sql`select r.device_no as deviceNo, coalesce(cast(v.user_no as signed), -cast(v.no as signed)) as person,
            v.user_no is not null and (select 1 from devices o straight_join deliveries d
              on d.notification_no = ${notificationNo} and d.device_no = o.no and d.accepted_at is not null
              where o.user_no = v.user_no limit 1) is not null as got
          from deliveries r straight_join devices v on v.no = r.device_no
          where r.notification_no = ${notificationNo} and r.device_no > ${after} and r.accepted_at is null
          order by r.device_no limit ${batchSize}`,
    )
    const last = failed.length < batchSize ? undefined : failed.at(-1)?.deviceNo
    if (!(await (last === undefined ? finish(tx, claim) : extend(tx, claim, leaseMs)))) return { is: 'lost' }
    const persons = failed.filter(({ got }) => got === 0).map(({ person }) => person)
    if (persons.length > 0) await uncount(tx, claim, notificationNo, persons)
    return last === undefined ? { is: 'done' } : { is: 'more', after: last }
  })
}

async function uncount(tx: Tx, where: Where, notificationNo: number, persons: readonly number[]): Promise<void> {
  const rows = await tx.rows<StoredPage & { readonly cap: string }>(
    sql`select cap, page, body from cap_pages where ${inScope(where)}
          and cap in (select cap from (select distinct cap from cap_pages where ${inScope(where)}) caps)
          and page in ${pagesOf(persons)} order by cap, page for update`,
  )
  for (const { cap, page, body } of rows) {
    const read = new CapPage(page, body)
    for (const person of persons) if (pageOfPerson(person) === page) read.refund(person, notificationNo)
    if (read.changed)
      await tx.change(
        build
          .update(capPages)
          .set({ body: Buffer.from(read.pack(0)) })
          .where(and(inScope(where), eq(capPages.cap, cap), eq(capPages.page, page))),
      )
  }
}

/** Forgets pages of which nothing counts any more. */
export async function pruneCapPages(database: Database, mayGoOn: () => boolean): Promise<void> {
  for (let forgotten = 1; forgotten > 0 && mayGoOn(); )
    forgotten = (await database.change(build.delete(capPages).where(lt(capPages.untilAt, now)).limit(1000)))
      .affectedRows
}
