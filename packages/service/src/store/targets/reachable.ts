import { type Mode, type Obstacle, obstaclesTo, type Reachability } from '@zbell/core'
import { type SQL, sql } from 'drizzle-orm'
import { anyOf } from '../fragments.ts'

/** Each fact of a device `v` as an expression. */
const facts: { readonly [F in keyof Reachability]: SQL } = {
  retired: sql`v.retired_at is not null`,
  permission: sql`v.permission`,
  muted: sql`v.muted`,
}

const holds = ({ fact, is }: Obstacle): SQL => (is === true ? sql`(${facts[fact]})` : sql`${facts[fact]} = ${is}`)

/** Whether a device `v` would be rung by a notification of this mode: true or false, never null. */
export const isReachable = (mode: Mode): SQL => sql`not ${anyOf(obstaclesTo(mode).map(holds))}`
