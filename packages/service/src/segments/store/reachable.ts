import { handsetMark, type Mode, type Obstacle, obstaclesTo, type Platform, type Reachability } from '@zbell/core'
import { type SQL, sql } from 'drizzle-orm'
import { anyOf } from '../../database/index.ts'

/** Each fact of a device `v` as an expression. */
const facts: { readonly [F in keyof Reachability]-?: (channelNo: number | null) => SQL } = {
  retired: () => sql`v.retired_at is not null`,
  permission: () => sql`v.permission`,
  muted: () => sql`v.muted`,
  channelBlocked: (channelNo) =>
    channelNo === null
      ? sql`false`
      : sql`(select 1 from channel_blocks b where b.channel_no = ${channelNo} and b.device_no = v.no) is not null`,
  channelMuted: (channelNo) =>
    channelNo === null
      ? sql`false`
      : sql`(select 1 from channel_mutes m where m.channel_no = ${channelNo} and m.user_no = v.user_no) is not null`,
}

/** What a device `v` and its person say of a channel, as true or false. */
export const channelFacts = (channelNo: number | null): { readonly blocked: SQL; readonly muted: SQL } => ({
  blocked: facts.channelBlocked(channelNo),
  muted: facts.channelMuted(channelNo),
})

/** Whether no gateway leads to a device `v`: one of these platforms, and no virtual handset, which needs none. */
export const isWithoutGateway = (unserved: readonly Platform[]): SQL =>
  unserved.length === 0
    ? sql`false`
    : sql`(v.platform in ${unserved} and coalesce(substring_index(v.token, '/', -1) not like ${`${handsetMark}%`}, true))`

/**
 * Whether a device `v` would be rung by a notification of this mode: true or false, never null.
 * @param channelNo its channel’s, if it is of one
 * @param unserved platforms for which the app has no credential or no gateway
 */
export const isReachable = (mode: Mode, channelNo: number | null, unserved: readonly Platform[] = []): SQL => {
  const ofChannel = (fact: keyof Reachability) => fact === 'channelBlocked' || fact === 'channelMuted'
  const holds = ({ fact, is }: Obstacle): SQL =>
    is === true ? sql`(${facts[fact](channelNo)})` : sql`${facts[fact](channelNo)} = ${is}`
  const asked = obstaclesTo(mode).filter(({ fact }) => channelNo !== null || !ofChannel(fact))
  return sql`(not ${anyOf(asked.map(holds))} and not ${isWithoutGateway(unserved)})`
}
