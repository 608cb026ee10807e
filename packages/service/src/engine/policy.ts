import type { Mode, Urgency } from '@zbell/core'
import {
  type Cap,
  type Channel,
  ownQuietFor,
  QuietClock,
  type QuietVerdict,
  type QuietWindow,
} from '@zbell/core/policy'
import type { BlockDevice } from './work.ts'

/** What of an app and of people keeps a notification from ringing here or now. */
export type PolicyFacts = {
  /** The app’s quiet hours that hold for the notification. */
  readonly quiet: readonly QuietWindow[]
  /** People’s own, by their number. */
  readonly own: ReadonlyMap<number, readonly QuietWindow[]>
  /** By this clock those are meant whose devices have told none. */
  readonly timeZone: string
  readonly caps: readonly Cap[]
  /** Devices on which the system blocks its channel, and people who muted it. */
  readonly blocked: ReadonlySet<number>
  readonly mutedBy: ReadonlySet<number>
}

export const noPolicy: PolicyFacts = Object.freeze({
  quiet: [],
  own: new Map(),
  timeZone: 'UTC',
  caps: [],
  blocked: new Set<number>(),
  mutedBy: new Set<number>(),
})

/** Who is counted under a cap: a person, or a device of nobody for itself. */
export const personOf = ({ userNo, no }: Pick<BlockDevice, 'userNo' | 'no'>): number => userNo ?? -no

type Device = Pick<BlockDevice, 'no' | 'userNo' | 'timeZone'>
type Covered = { readonly mode: Mode; readonly urgency: Urgency; readonly channel: Channel | null }

/** The same, asked for one device after the other at about one moment. */
export class PolicyChecks {
  readonly #policy: PolicyFacts
  readonly #notification: Covered
  readonly #clock: QuietClock
  readonly #ofChannel: boolean

  constructor(policy: PolicyFacts, notification: Covered, atMs: number) {
    this.#policy = policy
    this.#notification = notification
    this.#clock = new QuietClock(policy.quiet, atMs)
    this.#ofChannel = policy.blocked.size + policy.mutedBy.size > 0
  }

  /** What the device and its person say of the channel; undefined where nobody said anything. */
  ofChannel({ no, userNo }: Device): { readonly channelBlocked: boolean; readonly channelMuted: boolean } | undefined {
    if (!this.#ofChannel) return undefined
    const { blocked, mutedBy } = this.#policy
    return { channelBlocked: blocked.has(no), channelMuted: userNo !== null && mutedBy.has(userNo) }
  }

  /** By whose clock its quiet hours are meant. */
  zoneOf({ timeZone }: Pick<Device, 'timeZone'>): string {
    return timeZone ?? this.#policy.timeZone
  }

  quiet(device: Device): QuietVerdict {
    const { own } = this.#policy
    const { userNo } = device
    const windows = own.size === 0 || userNo === null ? undefined : own.get(userNo)
    return this.#clock.verdict(this.zoneOf(device), windows && ownQuietFor(windows, this.#notification))
  }
}
