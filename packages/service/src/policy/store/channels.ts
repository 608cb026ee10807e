import type { Platform } from '@zbell/core'
import { type Channel, type ChannelSetting, isChannelName, platformName } from '@zbell/core/policy'
import { and, eq, sql } from 'drizzle-orm'
import {
  build,
  channelBlocks,
  channelMutes,
  computed,
  condition,
  type Database,
  incoming,
  inScope,
  named,
  now,
  type Reader,
  type RowOf,
  select,
  type Tx,
  channels as table,
  tuples,
  type Where,
} from '../../database/index.ts'

const plain = { no: table.no, name: table.name, setting: table.setting }
const columns = {
  ...plain,
  madeBy: table.madeBy,
  changedAt: table.changedAt,
  mutedBy: computed<number>(sql`(select count(*) from channel_mutes m where m.channel_no = channels.no)`),
  blockedOn: computed<number>(sql`(select count(*) from channel_blocks b where b.channel_no = channels.no)`),
}
export type ChannelRow = RowOf<typeof columns>
type PlainRow = RowOf<typeof plain>

/** A channel as a notification is of it. */
export const channelOf = ({ no, name, setting }: PlainRow): Channel => ({ no, name, ...setting })

const isThere = sql`${table.deletedAt} is null`
/** Lists, finds and counts channels. */
export const channelStore = named(table, columns, isThere)

/** Without what is counted of it. */
export async function channelNamed(reader: Reader, where: Where, name: string): Promise<Channel | undefined> {
  // Its column knows ASCII alone.
  if (!isChannelName(name)) return undefined
  const row = await named(table, plain, isThere).find(reader, where, name)
  return row && channelOf(row)
}

/** One that was removed comes back with the number that it had, so that who muted it still has. */
export async function saveChannel(
  database: Database,
  { appNo, environment }: Where,
  given: { readonly name: string; readonly setting: ChannelSetting; readonly madeBy: string },
): Promise<void> {
  await database.change(
    build
      .insert(table)
      .values({ appNo, environment, name: given.name, setting: given.setting, madeBy: given.madeBy, changedAt: now })
      .onDuplicateKeyUpdate({
        set: {
          setting: incoming(table.setting),
          madeBy: incoming(table.madeBy),
          changedAt: incoming(table.changedAt),
          deletedAt: null,
        },
      }),
  )
}

export async function deleteChannel(database: Database, no: number): Promise<void> {
  await database.change(build.update(table).set({ deletedAt: now }).where(eq(table.no, no)))
}

/** Every channel, with what a device and its person want of it. */
export async function channelsOf(
  reader: Reader,
  where: Where,
  device: { readonly no: number; readonly userNo: number | null },
): Promise<readonly (Channel & { readonly muted: boolean; readonly blocked: boolean })[]> {
  const rows = await select(
    reader,
    {
      ...plain,
      muted: condition(
        sql`exists (select 1 from channel_mutes m where m.channel_no = channels.no and m.user_no = ${device.userNo ?? 0})`,
      ),
      blocked: condition(
        sql`exists (select 1 from channel_blocks b where b.channel_no = channels.no and b.device_no = ${device.no})`,
      ),
    },
    sql`from ${table} where ${inScope(table, where)} and ${isThere} order by name`,
  )
  return rows.map(({ muted, blocked, ...row }) => ({ ...channelOf(row), muted, blocked }))
}

export async function muteChannel(tx: Tx, channelNo: number, userNo: number, muted: boolean): Promise<void> {
  await tx.change(
    muted
      ? build.insert(channelMutes).ignore().values({ channelNo, userNo, mutedAt: now })
      : build.delete(channelMutes).where(and(eq(channelMutes.channelNo, channelNo), eq(channelMutes.userNo, userNo))),
  )
}

/**
 * Which channels the system blocks on a device, as it told: by the app’s names for them, or by the platform’s. A name that is
 * no channel of the app is left out.
 * @returns whether it said something else before
 */
export async function storeBlocked(
  tx: Tx,
  where: Where,
  device: { readonly no: number; readonly platform: Platform },
  names: readonly string[],
): Promise<boolean> {
  const all =
    names.length === 0 ? [] : await select(tx, plain, sql`from ${table} where ${inScope(table, where)} and ${isThere}`)
  const told = new Set(names)
  const after = all
    .map(channelOf)
    .filter((one) => told.has(one.name) || told.has(platformName(one, device.platform)))
    .map(({ no }) => no)
  const known = await select(
    tx,
    { no: channelBlocks.channelNo },
    sql`from ${channelBlocks} where ${channelBlocks.deviceNo} = ${device.no} for update`,
  )
  const before = new Set(known.map(({ no }) => no))
  if (before.size === after.length && after.every((no) => before.has(no))) return false
  await tx.change(build.delete(channelBlocks).where(eq(channelBlocks.deviceNo, device.no)))
  if (after.length > 0)
    await tx.change(
      sql`insert into channel_blocks (channel_no, device_no) values ${tuples(after.map((no) => [no, device.no]))}`,
    )
  return true
}

/** The channels that a person muted, by name. */
export async function mutedChannelsOf(reader: Reader, userNo: number): Promise<string[]> {
  const rows = await select(
    reader,
    { name: table.name },
    sql`from ${channelMutes} join ${table} on ${table.no} = ${channelMutes.channelNo}
        where ${channelMutes.userNo} = ${userNo} and ${table.deletedAt} is null order by ${table.name}`,
  )
  return rows.map(({ name }) => name)
}
