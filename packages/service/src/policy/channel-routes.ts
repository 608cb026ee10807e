import { type Channel, channelName, channelSetting, type OwnChannel } from '@zbell/contract'
import type { Platform } from '@zbell/core'
import { type ChannelSetting, platformName } from '@zbell/core/policy'
import { type Api, checkCount, pageByName, type RateLimits } from '../api/index.ts'
import { invalid, Problem } from '../base/index.ts'
import { type Database, type Scope, whereOf } from '../database/index.ts'
import { ensurePersonOf } from '../devices/index.ts'
import { type ChannelRow, channelStore, channelsOf, deleteChannel, muteChannel, saveChannel } from './store/channels.ts'

/** A person has to find their way among them. */
const maxChannels = 100

export function serveChannels(api: Api, database: Database, limits: RateLimits, onChange: () => void): void {
  api.serve('listChannels', async ({ caller: { scope }, query }) =>
    pageByName(query, (limit, after) => channelStore.list(database, whereOf(scope), limit, after), channelView),
  )

  api.serve('readChannel', async ({ caller: { scope }, params }) =>
    channelView(await need(database, scope, params.channel)),
  )

  api.serve('saveChannel', async ({ caller: { scope, actor }, params: { channel: name }, body }) => {
    const { error } = channelName.safeParse(name)
    if (error) throw invalid('/channel', error.issues[0]?.message ?? 'is not a channel')
    checkCount('channel', await channelStore.countOthers(database, whereOf(scope), name), maxChannels)
    await saveChannel(database, whereOf(scope), { name, setting: body as ChannelSetting, madeBy: actor })
    onChange()
    return channelView(await need(database, scope, name))
  })

  api.serve('deleteChannel', async ({ caller: { scope }, params }) => {
    await deleteChannel(database, (await need(database, scope, params.channel)).no)
    onChange()
    return undefined
  })

  api.serve(
    'listOwnChannels',
    async ({ caller: { scope, device } }) => ({
      channels: (await channelsOf(database, whereOf(scope), device)).map((one) => ownView(one, device.platform)),
    }),
    limits.deviceCalls,
  )

  api.serve(
    'changeOwnChannel',
    async ({ caller: { scope, device }, params, body }) => {
      const { no, name } = await need(database, scope, params.channel)
      const person = await database.transact(async (tx) => {
        const userNo = await ensurePersonOf(tx, scope, device.no)
        await muteChannel(tx, no, userNo, body.muted)
        return userNo
      })
      onChange()
      const all = await channelsOf(database, whereOf(scope), { no: device.no, userNo: person })
      const own = all.find((one) => one.name === name)
      if (!own) throw new Problem('unknown-channel')
      return ownView(own, device.platform)
    },
    limits.deviceCalls,
  )
}

async function need(database: Database, scope: Scope, name: string): Promise<ChannelRow> {
  const found = channelName.safeParse(name).success
    ? await channelStore.find(database, whereOf(scope), name)
    : undefined
  if (!found) throw new Problem('unknown-channel', `There is no channel ${name.slice(0, 80)}.`)
  return found
}

const channelView = ({ name, setting, mutedBy, blockedOn, madeBy, changedAt }: ChannelRow): Channel => ({
  ...channelSetting.parse(setting),
  channel: name,
  mutedBy,
  blockedOn,
  madeBy,
  changedAt: changedAt.toISOString(),
})

const ownView = (one: Awaited<ReturnType<typeof channelsOf>>[number], platform: Platform): OwnChannel => ({
  channel: one.name,
  title: one.title,
  note: one.note ?? null,
  name: platformName(one, platform),
  muted: one.muted,
  blocked: one.blocked,
})
