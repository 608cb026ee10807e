import { type Mode, type Obstacle, obstaclesTo, type Reachability } from '@zbell/core'

/** Each fact of a device `v` as an expression. */
const facts: { readonly [F in keyof Reachability]: string } = {
  retired: 'v.retired_at is not null',
  permission: 'v.permission',
  muted: 'v.muted',
}

/** The values come from a table of ours, never from outside. */
const holds = ({ fact, is }: Obstacle): string => (is === true ? `(${facts[fact]})` : `${facts[fact]} = '${is}'`)

/** Whether a device `v` would be rung by a notification of this mode: true or false, never null. */
export const isReachable = (mode: Mode): string => `not (${obstaclesTo(mode).map(holds).join(' or ')})`
