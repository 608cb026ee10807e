import { type Environment, urgencies } from '@zbell/core'
import { sql } from 'drizzle-orm'
import { build, now, type Reader, type Tx, work as workTable } from '../database/index.ts'
import { ofApp, ofSubject } from './work.ts'

type Changes = Pick<Tx, 'change'>

/** Stops all work of a subject that nobody holds; whoever holds some releases it as suspended. */
export async function suspend(tx: Changes, subjectNo: number): Promise<void> {
  await tx.change(
    build
      .update(workTable)
      .set({ suspended: true })
      .where(sql`${ofSubject(subjectNo)} and ${workTable.leasedUntil} is null`),
  )
}

type App = { readonly appNo: number; readonly environment: Environment }

/** Parks all work of an app that nobody holds, so that no worker finds it. The caller holds the row of the app's stop. */
export async function park(tx: Changes, app: App): Promise<void> {
  await tx.change(
    build
      .update(workTable)
      .set({ parked: true })
      .where(sql`${ofApp(app)} and ${workTable.parked} = false and ${workTable.leasedUntil} is null`),
  )
}

/** Unparks it, each piece due when it was. The caller has removed the app's stop in the same transaction. */
export async function unpark(tx: Changes, app: App): Promise<void> {
  await tx.change(
    build
      .update(workTable)
      .set({ parked: false })
      .where(sql`${isParked} and ${workTable.appNo} = ${app.appNo} and ${workTable.environment} = ${app.environment}`),
  )
}

/** Whose work is parked. */
export const appsWithParkedWork = (reader: Reader): Promise<App[]> =>
  reader.rows(sql`select distinct app_no as appNo, environment from work where ${isParked}`)

/** In the words of the index \`by_turn\`, so that it is found without looking at all of the queue. */
const isParked = sql`suspended in (false, true) and parked = true`

/** Lets suspended work go on, each when it is due. */
export async function resume(tx: Changes, subjectNo: number): Promise<void> {
  await tx.change(build.update(workTable).set({ suspended: false }).where(ofSubject(subjectNo)))
}

/** Makes all that nobody holds due at once, suspended or not. */
export async function makeDue(tx: Changes, subjectNo: number): Promise<void> {
  await tx.change(
    build
      .update(workTable)
      .set({ suspended: false, dueAt: now })
      .where(sql`${ofSubject(subjectNo)} and ${workTable.leasedUntil} is null`),
  )
}

/**
 * Makes due what waits in an app for this cause to go away. What is held or suspended is left alone. In the words of the index
 * `by_share`, so that the work of other apps is neither looked at nor locked.
 */
export async function wake(tx: Changes, of: App & { readonly cause: number }): Promise<void> {
  await tx.change(
    sql`update work force index (by_share) set due_at = utc_timestamp(3)
        where suspended = false and parked in (false, true) and urgency in ${urgencies.map((_, code) => code)}
          and app_no = ${of.appNo} and environment = ${of.environment}
          and cause = ${of.cause} and leased_until is null and due_at > utc_timestamp(3)`,
  )
}

/** Work of a subject overtakes from now on what is less urgent. */
export async function changeUrgency(tx: Changes, subjectNo: number, urgency: number): Promise<void> {
  await tx.change(build.update(workTable).set({ urgency }).where(ofSubject(subjectNo)))
}
