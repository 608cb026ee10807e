import type { BlockDevice, Claim } from '../src/engine/work.ts'

export type SendClaim = Claim & { readonly kind: 'send' }

/** A claim of a block with nothing special about it but what is said. */
export const claimOf = (devices: readonly number[], more: Partial<SendClaim> = {}): SendClaim => ({
  no: 1,
  fence: 1,
  appNo: 1,
  notificationNo: 7,
  urgency: 2,
  environment: 'development',
  createdAt: new Date(),
  channelNo: 0,
  aheadMs: 0,
  kind: 'send',
  failures: 0,
  cause: undefined,
  devices,
  ...more,
})

/** A device that lets itself be rung. */
export const device = (no: number, more: Partial<BlockDevice> = {}): BlockDevice => ({
  no,
  platform: 'ios',
  permission: 'granted',
  muted: false,
  retired: false,
  token: `token-${no}`,
  p256dh: null,
  auth: null,
  userNo: null,
  locale: null,
  timeZone: null,
  ...more,
})
