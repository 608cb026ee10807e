import type { Device } from '@zbell/contract'
import { isHandsetAddress, unpackAllowed } from '@zbell/core'
import type { DeviceRow } from '../database/index.ts'

export const deviceView = (row: DeviceRow): Device => ({
  id: row.id,
  platform: row.platform,
  environment: row.environment,
  rehearsal: isHandsetAddress(row.token),
  permission: row.permission,
  muted: row.muted,
  allows: row.allows === null ? null : unpackAllowed(row.allows),
  user: row.user,
  locale: row.locale,
  timeZone: row.timeZone,
  appVersion: row.appVersion,
  systemVersion: row.systemVersion,
  model: row.model,
  registeredAt: row.registeredAt.toISOString(),
  seenAt: row.seenAt.toISOString(),
  changedAt: row.changedAt.toISOString(),
  receiptAt: row.receiptAt?.toISOString() ?? null,
  retiredAt: row.retiredAt?.toISOString() ?? null,
  retiredReason: row.retiredReason,
})
