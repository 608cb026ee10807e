import type { Environment } from '@zbell/core'
import { sql } from 'drizzle-orm'
import { computed, type Reader, select, work as workTable } from '../database/index.ts'
import { type ClaimRef, ofApp, ofSubject, type QueuedWork } from './work.ts'

export type QueueState = {
  /** Parts whose turn has come. */
  readonly due: number
  /** Parts that wait for another try, or for their time. */
  readonly later: number
  /** Of notifications that are paused, or of an app that is stopped. */
  readonly suspended: number
  /** Subjects of what is due. */
  readonly dueSubjects: readonly number[]
}

/** How much of an app's work of a kind waits. */
export async function readQueue(
  reader: Reader,
  of: { readonly appNo: number; readonly environment: Environment; readonly kind: string },
): Promise<QueueState> {
  const rows = await reader.rows<{ subjectNo: number; due: string; later: string; suspended: string }>(
    sql`select subject_no as subjectNo, sum(if(isDue, size, 0)) as due,
       sum(if(not isDue and not suspended, size, 0)) as later, sum(if(not isDue and suspended, size, 0)) as suspended
     from (select subject_no, size, suspended or parked as suspended,
             leased_until is not null or (not suspended and not parked and due_at <= utc_timestamp(3)) as isDue
           from work where ${ofApp(of)} and kind = ${of.kind}) queued
     group by subject_no`,
  )
  const sum = (pick: (row: (typeof rows)[number]) => string) => rows.reduce((all, row) => all + Number(pick(row)), 0)
  return {
    due: sum(({ due }) => due),
    later: sum(({ later }) => later),
    suspended: sum(({ suspended }) => suspended),
    dueSubjects: rows.filter(({ due }) => Number(due) > 0).map(({ subjectNo }) => subjectNo),
  }
}

/** Whether a subject has work, or some that a worker holds. */
export async function hasWork(reader: Reader, subjectNo: number, which: 'any' | 'held' = 'any'): Promise<boolean> {
  const held = which === 'held' ? sql`and leased_until is not null` : sql``
  return (await reader.rows(sql`select 1 from work where ${ofSubject(subjectNo)} ${held} limit 1`)).length > 0
}

/** What is left of work that somebody holds, and keeps hold of until the transaction ends. @returns undefined when the lease was lost */
export async function heldBody(tx: Reader, { no, fence }: ClaimRef): Promise<{ body: Buffer | null } | undefined> {
  const [work] = await select(
    tx,
    { body: workTable.body },
    sql`from ${workTable} where ${workTable.no} = ${no} and ${workTable.fence} = ${fence} for update`,
  )
  return work
}

/** Whether a subject has work beside this. */
export const hasOtherWork = async (reader: Reader, subjectNo: number, no: number): Promise<boolean> =>
  (await reader.rows(sql`select 1 from work where ${ofSubject(subjectNo)} and no <> ${no} limit 1`)).length > 0

/** So many subjects are told of. */
const maxSubjects = 10_000

/** What an app has whose turn has come, stopped or not. */
export async function dueSubjects(
  reader: Reader,
  of: { readonly appNo: number; readonly environment: Environment },
): Promise<number[]> {
  const rows = await reader.rows<{ no: number }>(
    sql`select distinct subject_no as no from work where ${ofApp(of)} and not suspended
      and due_at <= utc_timestamp(3) order by subject_no limit ${maxSubjects}`,
  )
  return rows.map(({ no }) => no)
}

/** Until when work of subjects waits for a cause, and how much of it. @returns nothing for a subject without such work */
export async function waitsFor(
  reader: Reader,
  subjectNos: readonly number[],
  cause: number,
): Promise<ReadonlyMap<number, { readonly until: Date; readonly size: number }>> {
  if (subjectNos.length === 0) return new Map()
  const rows = await select(
    reader,
    {
      no: workTable.subjectNo,
      until: computed<Date>(sql`min(${workTable.dueAt})`),
      size: computed<string>(sql`sum(${workTable.size})`),
    },
    sql`from ${workTable} where ${workTable.subjectNo} in ${subjectNos} and ${workTable.cause} = ${cause}
        and ${workTable.dueAt} > utc_timestamp(3) group by ${workTable.subjectNo}`,
  )
  return new Map(rows.map(({ no, until, size }) => [no, { until, size: Number(size) }]))
}

/** What of a subject is in the queue. */
export const workOf = (
  reader: Reader,
  subjectNo: number,
  kind: string,
): Promise<(Pick<QueuedWork, 'body' | 'failures' | 'cause'> & { readonly dueAt: Date })[]> =>
  reader.rows(
    sql`select body, failures, cause, due_at as dueAt from work where ${ofSubject(subjectNo)} and kind = ${kind}`,
  )
