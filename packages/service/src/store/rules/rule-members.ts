import { type Platform, platforms, uuidFromBytes } from '@zbell/core'
import type { Term } from '@zbell/core/rules'
import { sql } from 'drizzle-orm'
import type { Scope } from '../apps/apps.ts'
import type { Reader } from '../database.ts'
import { isReachable } from '../targets/reachable.ts'
import { type RuleContext, ruleCondition } from './rule-condition.ts'

export type RuleMember = { readonly no: number; readonly user: string | null; readonly device: string }

/** How many a rule has. */
export type RuleCount = {
  readonly people: number
  readonly devices: number
  readonly reachable: number
  readonly perPlatform: Readonly<Record<Platform, number>>
}

const own = ({ app, environment }: Scope) =>
  sql`v.app_no = ${app.no} and v.environment = ${environment} and v.retired_at is null`

/** Counts the devices and the people that a rule has. */
export async function countRule(database: Reader, scope: Scope, term: Term, context: RuleContext): Promise<RuleCount> {
  const rows = await database.rows<{ platform: Platform | null; devices: number; reachable: string; people: number }>(
    sql`select v.platform, count(*) as devices, sum(${isReachable('show')}) as reachable,
          count(distinct if(u.named, v.user_no, null)) as people
        from devices v left join users u on u.no = v.user_no
        where ${own(scope)} and ${ruleCondition(term, context)}
        group by v.platform with rollup`,
  )
  // The last row is about all of them.
  const all = rows.find(({ platform }) => platform === null)
  return {
    people: all?.people ?? 0,
    devices: all?.devices ?? 0,
    reachable: Number(all?.reachable ?? 0),
    perPlatform: Object.fromEntries(
      platforms.map((one) => [one, rows.find(({ platform }) => platform === one)?.devices ?? 0]),
    ) as Record<Platform, number>,
  }
}

/** The devices that a rule has, oldest first. @param after the number of the last one before */
export async function ruleMembers(
  database: Reader,
  scope: Scope,
  term: Term,
  context: RuleContext,
  { limit, after = 0 }: { readonly limit: number; readonly after?: number | undefined },
): Promise<RuleMember[]> {
  const rows = await database.rows<{ no: number; user: string | null; id: Buffer }>(
    sql`select v.no, v.id, u.name as user from devices v left join users u on u.no = v.user_no
        where ${own(scope)} and v.no > ${after} and ${ruleCondition(term, context)} order by v.no limit ${limit}`,
  )
  return rows.map(({ no, user, id }) => ({ no, user, device: uuidFromBytes(id) }))
}
