import { type Reason, reasonToSkip } from '@zbell/core'
import { quietSpreadSeconds } from '@zbell/core/policy'
import type { Notification } from './notification.ts'
import { noPolicy, PolicyChecks, personOf } from './policy.ts'
import type { WorkStore } from './ports.ts'
import type { BlockDevice, Claim, Ended } from './work.ts'

/** Why a device does not ring now: for good, or until its quiet hours end. */
type NotNow =
  | ({ readonly is: 'ends' } & Pick<Ended, 'state' | 'reason' | 'detail'>)
  | { readonly is: 'waits'; readonly afterMs: number; readonly spreadMs: number }

const skipped = (reason: Reason, detail?: string): NotNow => ({
  is: 'ends',
  state: 'skipped',
  reason,
  ...(detail === undefined ? {} : { detail }),
})

/** Decides, for one device of a block after the other, whether it rings now. */
export class RingChecks {
  readonly #claim: Claim & { kind: 'send' }
  readonly #notification: Notification
  readonly #expiresMs: number
  #superseded: ReadonlySet<number> = new Set()
  #policy: PolicyChecks
  /** By person, the cap that leaves them out. */
  #over: ReadonlyMap<number, string> = new Map()

  private constructor(claim: Claim & { kind: 'send' }, notification: Notification) {
    this.#claim = claim
    this.#notification = notification
    this.#expiresMs = notification.expiresAt.getTime()
    this.#policy = new PolicyChecks(noPolicy, notification, 0)
  }

  /** Reads what the decisions need to know beyond the devices, and counts under caps whoever would ring. */
  static async read(
    claim: Claim & { kind: 'send' },
    notification: Notification,
    store: Pick<WorkStore, 'superseded' | 'policy' | 'countUnderCaps'>,
    devices: readonly BlockDevice[],
    nowMs: number,
  ): Promise<RingChecks> {
    const checks = new RingChecks(claim, notification)
    const { tag } = notification.content
    if (tag !== undefined) checks.#superseded = await store.superseded(notification, tag, claim.devices)
    const policy = await store.policy(notification, devices)
    checks.#policy = new PolicyChecks(policy, notification, nowMs)
    if (policy.caps.length > 0) {
      const persons = new Set(devices.filter((device) => checks.#wouldRing(device)).map(personOf))
      checks.#over = await store.countUnderCaps(notification, policy.caps, [...persons])
    }
    return checks
  }

  /** Whether it would ring now, caps aside. */
  #wouldRing(device: BlockDevice): boolean {
    return (
      this.#skipOf(device) === undefined && !this.#superseded.has(device.no) && this.#policy.quiet(device).is === 'open'
    )
  }

  #skipOf(device: BlockDevice): Reason | undefined {
    const ofChannel = this.#policy.ofChannel(device)
    return reasonToSkip(ofChannel ? { ...device, ...ofChannel } : device, this.#notification.mode)
  }

  /** @returns undefined where nothing keeps it from ringing now */
  notNow(device: BlockDevice, nowMs: number): NotNow | undefined {
    // A delivery that waited for a gateway ends by that gateway's fault, not by the queue's.
    if (nowMs >= this.#expiresMs)
      return { is: 'ends', state: 'expired', reason: this.#claim.cause ?? 'expired-in-queue' }
    const skip = this.#skipOf(device)
    if (skip) return skipped(skip)
    if (this.#superseded.has(device.no)) return { is: 'ends', state: 'withdrawn', reason: 'superseded' }
    const quiet = this.#policy.quiet(device)
    if (quiet.is === 'wait') {
      const spreadMs = quietSpreadSeconds(this.#notification.expanded) * 1_000
      return { is: 'waits', afterMs: Math.max(0, quiet.untilMs - nowMs), spreadMs }
    }
    if (quiet.is === 'skip') return skipped('quiet-hours', this.#policy.zoneOf(device))
    const cap = this.#over.size === 0 ? undefined : this.#over.get(personOf(device))
    return cap === undefined ? undefined : skipped('over-cap', cap)
  }
}
