import { type Cap, capsFor, type QuietWindow, quietFor } from '@zbell/core/policy'
import { sql } from 'drizzle-orm'
import { settingsOf } from '../../apps/index.ts'
import { channelBlocks, channelMutes, type Reader, select } from '../../database/index.ts'
import { type BlockDevice, type Notification, noPolicy, type PolicyFacts } from '../../engine/index.ts'
import { quietHoursOf } from './quiet-hours.ts'

type PolicyScope = Pick<Notification, 'appNo' | 'environment' | 'mode' | 'urgency' | 'channel'>

/** What holds for a notification of an app, whoever reads it. */
export async function policyOfApp(
  reader: Reader,
  notification: PolicyScope,
): Promise<{
  readonly quiet: readonly QuietWindow[]
  readonly caps: readonly Cap[]
  readonly timeZone: string
  /** Somebody of the app has quiet hours of their own. */
  readonly own: boolean
}> {
  const { appNo, environment } = notification
  const [row] = await reader.rows<{ settings: unknown; own: number }>(
    sql`select (select settings from app_settings where app_no = ${appNo} and environment = ${environment}) as settings,
          exists (select 1 from user_quiet_hours where app_no = ${appNo} and environment = ${environment}) as own`,
  )
  const { quietHours, caps, timeZone } = settingsOf(row?.settings, environment)
  return {
    quiet: quietFor(quietHours, notification),
    caps: capsFor(caps, notification),
    timeZone,
    own: row?.own === 1 && notification.mode === 'show' && notification.urgency !== 'high',
  }
}

/** What keeps a notification from ringing on these devices, here or now. A wake is kept from nothing. */
export async function policyOf(
  reader: Reader,
  notification: PolicyScope,
  devices: readonly BlockDevice[],
): Promise<PolicyFacts> {
  if (notification.mode === 'wake' || devices.length === 0) return noPolicy
  const { own, ...ofApp } = await policyOfApp(reader, notification)
  const { channel } = notification
  if (!own && channel === null) return { ...noPolicy, ...ofApp }
  const people = [...new Set(devices.flatMap(({ userNo }) => userNo ?? []))]
  const [windows, blocked, mutedBy] = await Promise.all([
    own ? quietHoursOf(reader, people) : noPolicy.own,
    channel === null
      ? []
      : select(
          reader,
          { no: channelBlocks.deviceNo },
          sql`from ${channelBlocks} where ${channelBlocks.channelNo} = ${channel.no} and ${channelBlocks.deviceNo} in ${devices.map(({ no }) => no)}`,
        ),
    channel === null || people.length === 0
      ? []
      : select(
          reader,
          { no: channelMutes.userNo },
          sql`from ${channelMutes} where ${channelMutes.channelNo} = ${channel.no} and ${channelMutes.userNo} in ${people}`,
        ),
  ])
  const numbers = (rows: readonly { readonly no: number }[]) => new Set(rows.map(({ no }) => no))
  return { ...ofApp, own: windows, blocked: numbers(blocked), mutedBy: numbers(mutedBy) }
}
