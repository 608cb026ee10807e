import type { DeliveryState, Environment, Permission, Platform, Reason } from '@zbell/core'
import type { Notification } from './notification.ts'

/** Work on a notification that this process holds. Every write to it carries the fence: after another claim it counts no more. */
export type Claim = {
  readonly no: number
  readonly fence: number
  readonly appNo: number
  readonly notificationNo: number
  readonly urgency: number
  /** The notification’s. */
  readonly environment: Environment
  readonly createdAt: Date
  /** The notification’s; 0 for none. */
  readonly channelNo: number
  /** By how many ms the database's clock is ahead of this process's: due times and lifetimes are the database's. */
  readonly aheadMs: number
} & (
  | { readonly kind: 'expand' | 'withdraw' | 'refund' }
  | {
      readonly kind: 'send'
      readonly failures: number
      readonly cause: Reason | undefined
      readonly devices: readonly number[]
    }
)

/** What was claimed, with what it is about. */
export type LeasedWork = {
  readonly claim: Claim
  readonly notification: Notification
  /** Of a block that was claimed as it was made: its devices, which need not be read again. */
  readonly devices?: readonly BlockDevice[]
}

/** What sending needs of a device, and no more: a block loads two thousand of them. */
export type BlockDevice = {
  readonly no: number
  readonly platform: Platform
  readonly permission: Permission
  readonly muted: boolean
  readonly retired: boolean
  readonly token: string
  readonly p256dh: Buffer | null
  readonly auth: Buffer | null
  readonly userNo: number | null
  readonly locale: string | null
  readonly timeZone: string | null
}

/** Which request went where as whom, and what came back. */
export type GatewayAnswer = {
  /** The gateway's origin. */
  readonly gateway: string
  /** The credential with which it was asked; null in a rehearsal. */
  readonly credential: string | null
  readonly status: number
  /** The beginning of a refusal's text; empty for a good answer. */
  readonly says: string
}

/** What became of one device of a block. */
export type Ended = {
  readonly deviceNo: number
  /** Who had it, where somebody did. */
  readonly userNo?: number | null | undefined
  readonly platform: Platform
  readonly state: Extract<DeliveryState, 'accepted' | 'skipped' | 'refused' | 'expired' | 'withdrawn'>
  readonly reason?: Reason | undefined
  readonly attempts: number
  readonly gatewayReference?: string | undefined
  /** What the gateway said at last, when it said anything. */
  readonly answer?: GatewayAnswer | undefined
  /** What the reason is about: the name of a cap. */
  readonly detail?: string | undefined
  readonly atMs: number
}

export type Retry = {
  readonly devices: readonly number[]
  readonly failures: number
  readonly cause: Reason
  readonly afterMs: number
}

export type Outcomes = {
  readonly ended: readonly Ended[]
  /** Devices of the block of which nothing is known yet; none ends the block. */
  readonly remaining: readonly number[]
  readonly retries: readonly Retry[]
  /** What remains is not this process's any more: it waits for whoever comes, or, when it was paused, until it goes on. */
  readonly putBack?: boolean
}

/** `suspended`: the notification was paused, and the work waits until it goes on. */
export type Expansion = 'more' | 'done' | 'lost' | 'suspended'

/** `after`: where the next page begins. */
export type Withdrawal = { readonly is: 'more'; readonly after: number } | { readonly is: 'done' | 'lost' }
