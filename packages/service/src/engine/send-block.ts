import {
  type Content,
  isHandsetAddress,
  MalformedText,
  type Outcome,
  type Platform,
  type Reason,
  type Rendered,
  Renderer,
  readerOf,
  reasonToSkip,
  type Values,
} from '@zbell/core'
import { Answers } from './answers.ts'
import type { Notification } from './notification.ts'
import { planRetries, type Waiting } from './plan-retries.ts'
import type { Gateways, Shipment, WorkStore } from './ports.ts'
import { type Ahead, type Exit, type Exits, exitName } from './prepare-ahead.ts'
import { type SendBlockOptions, sendBlockDefaults } from './send-options.ts'
import { sendable } from './sendable.ts'
import { unlessAborted } from './unless-aborted.ts'
import type { BlockDevice, Claim, Ended, Retry } from './work.ts'

/** Texts that name each reader are many; what was made ready for the first ones is forgotten. */
const shipmentsKept = 500

/**
 * Sends one block: decides for each device, hands requests to the gateways, and stores what became of them.
 * @param ahead what was made ready while the work was stored
 * @returns false when the lease was lost on the way; whatever was not stored is the next worker's
 */
export const sendBlock = (
  claim: Claim & { kind: 'send' },
  notification: Notification,
  store: WorkStore,
  gateways: Gateways,
  options: SendBlockOptions = sendBlockDefaults,
  ahead?: Ahead,
): Promise<boolean> => new BlockRun(claim, notification, store, gateways, options, ahead).run()

class BlockRun {
  readonly #claim: Claim & { kind: 'send' }
  readonly #notification: Notification
  readonly #store: WorkStore
  readonly #gateways: Gateways
  readonly #options: SendBlockOptions
  readonly #attempts: number
  readonly #urgent: boolean
  readonly #expiresMs: number
  /** Devices whose end is not stored yet. */
  readonly #open: Set<number>
  #ended: Ended[] = []
  readonly #waiting: Waiting[] = []
  /** One for each platform, and one more for its virtual handsets. */
  readonly #exits: Exits
  readonly #renderer: Renderer
  #values = new Map<number, Values>()
  #superseded: ReadonlySet<number> = new Set()
  readonly #answers = new Answers()
  #inTheAir = 0
  #onLanded: (() => void) | undefined
  #holding = true
  #storing: Promise<void> | undefined
  #storedAtMs: number

  constructor(
    claim: Claim & { kind: 'send' },
    notification: Notification,
    store: WorkStore,
    gateways: Gateways,
    options: SendBlockOptions,
    ahead: Ahead | undefined,
  ) {
    this.#claim = claim
    this.#notification = notification
    this.#store = store
    this.#gateways = gateways
    this.#options = options
    this.#attempts = claim.failures + 1
    this.#urgent = notification.urgency === 'high'
    this.#expiresMs = notification.expiresAt.getTime()
    this.#open = new Set(claim.devices)
    this.#storedAtMs = this.#now()
    this.#renderer = ahead?.renderer ?? new Renderer(notification.content, notification.filling)
    this.#exits = ahead?.exits ?? new Map()
  }

  async run(): Promise<boolean> {
    await unlessAborted(this.#sendAll(), this.#options.givenUp)
    await this.#storing
    if (!this.#holding) return false
    const retries = this.#planRetries()
    const remaining = this.#unsettled()
    const ended = this.#ended
    this.#ended = []
    const held = await this.#store.storeOutcomes(this.#claim, { ended, remaining, retries, giveBack: true })
    for (const exit of this.#exits.values())
      if (typeof exit === 'object' && exit.accepted)
        await this.#store.noteAccepted(this.#notification, exit.platform, exit.rehearsal)
    return held
  }

  /** The database's time: lifetimes are measured by it, whoever wrote them. */
  #now(): number {
    return this.#options.now() + this.#claim.aheadMs
  }

  async #sendAll(): Promise<void> {
    const devices = await this.#store.devices(this.#claim.devices)
    this.#endMissing(devices)
    await this.#learn(devices)
    for (const device of devices) {
      if (!this.#holding) break
      const hold = this.#options.hold()
      if (hold === 'paused' || hold === 'stopping') break
      if (hold === 'cancelled') this.#end(device, { state: 'withdrawn', reason: 'cancelled' }, this.#claim.failures)
      else {
        // What can go at once costs no turn of the event loop.
        const wait = this.#send(device)
        if (wait) await wait
      }
      this.#storeSometimes()
    }
    await this.#landed()
  }

  /** Devices that were not sent to, or whose answer is not waited for any more: whoever goes on with the block has them. */
  #unsettled(): number[] {
    if (this.#ended.length + this.#waiting.length === this.#open.size) return []
    const settled = new Set([
      ...this.#ended.map(({ deviceNo }) => deviceNo),
      ...this.#waiting.map(({ device }) => device.no),
    ])
    return [...this.#open].filter((no) => !settled.has(no))
  }

  /** What the texts and the decisions need to know beyond the devices themselves. */
  async #learn(devices: readonly BlockDevice[]): Promise<void> {
    const { content } = this.#notification
    const speaks = content.perLanguage || Object.values(content.perPlatform ?? {}).some((one) => one?.perLanguage)
    if (speaks || this.#isPersonal()) {
      const people = [...new Set(devices.flatMap(({ userNo }) => userNo ?? []))]
      this.#values = await this.#store.values(people)
    }
    if (content.tag !== undefined)
      this.#superseded = await this.#store.superseded(this.#notification, content.tag, this.#claim.devices)
  }

  #isPersonal(): boolean {
    try {
      return this.#renderer.personal.size > 0
    } catch (error) {
      if (!(error instanceof MalformedText)) throw error
      return false // Each device says so for itself.
    }
  }

  /** A device that was deleted since the expansion has no row to send from. */
  #endMissing(devices: readonly BlockDevice[]): void {
    const found = new Set(devices.map((device) => device.no))
    for (const no of this.#claim.devices) {
      if (!found.has(no))
        this.#end({ no, platform: 'web' }, { state: 'skipped', reason: 'unregistered' }, this.#claim.failures)
    }
  }

  #landed(): Promise<void> {
    return this.#inTheAir === 0
      ? Promise.resolve()
      : new Promise((done) => {
          this.#onLanded = done
        })
  }

  /** @returns what to wait for; `undefined` when it is done with, or on its way */
  #send(device: BlockDevice): Promise<void> | undefined {
    const { failures, cause } = this.#claim
    if (this.#now() >= this.#expiresMs) {
      // A delivery that waited for a gateway ends by that gateway's fault, not by the queue's.
      this.#end(device, { state: 'expired', reason: cause ?? 'expired-in-queue' }, failures)
      return undefined
    }
    const skip = reasonToSkip(device, this.#notification.mode)
    if (skip) {
      this.#end(device, { state: 'skipped', reason: skip }, failures)
      return undefined
    }
    if (this.#superseded.has(device.no)) {
      this.#end(device, { state: 'withdrawn', reason: 'superseded' }, failures)
      return undefined
    }
    const own = (device.userNo === null ? undefined : this.#values.get(device.userNo)) ?? {}
    const rendered = this.#rendered(device, own)
    if (rendered === undefined) {
      this.#waiting.push({ device, cause: 'internal-fault', retryAfterMs: 0 })
      return undefined
    }
    if (rendered.is === 'missing') {
      this.#end(device, { state: 'skipped', reason: 'missing-value' }, failures)
      return undefined
    }
    const exit = this.#exits.get(exitName(device.platform, isHandsetAddress(device.token)))
    const shipment = typeof exit === 'object' ? exit.shipments.get(rendered.name) : undefined
    if (typeof exit !== 'object' || !shipment || exit.lane.state !== 'open') return this.#sendSlowly(device, rendered)
    const turn = exit.lane.slots.take(this.#urgent)
    if (turn) return turn.then(() => this.#goOn(device, exit, shipment))
    this.#launch(device, exit, shipment)
    return undefined
  }

  /** The first of its kind: its way out is opened, its request shaped. */
  async #sendSlowly(device: BlockDevice, rendered: { content: Content; name: string }): Promise<void> {
    const exit = await this.#exit(device.platform, isHandsetAddress(device.token))
    if (exit === 'fault') this.#waiting.push({ device, cause: 'internal-fault', retryAfterMs: 0 })
    else if (typeof exit === 'string') this.#end(device, { state: 'refused', reason: exit }, this.#claim.failures)
    else if (exit.lane.state === 'halted') this.#waiting.push({ device, cause: 'credential-rejected', retryAfterMs: 0 })
    else {
      const shipment = await this.#shipment(exit, rendered)
      if (shipment === undefined) {
        this.#waiting.push({ device, cause: 'internal-fault', retryAfterMs: 0 })
        return
      }
      await exit.lane.slots.take(this.#urgent)
      this.#goOn(device, exit, shipment)
    }
  }

  /** The wait for a place can have been long: what was true before it may not be any more. */
  #goOn(device: BlockDevice, exit: Exit, shipment: Shipment): void {
    if (this.#options.hold() === 'none') this.#launch(device, exit, shipment)
    else this.#giveBack(device, exit)
  }

  /** A text that cannot be read was kept by an earlier version: it holds up its own deliveries, and no others. */
  #rendered(device: BlockDevice, own: Values): Rendered | undefined {
    try {
      return this.#renderer.render(readerOf(device, own))
    } catch (error) {
      this.#options.onFault(error)
      return undefined
    }
  }

  /** The notification was held, or we are to stop, while this device waited for a place: it is not sent. */
  #giveBack(device: BlockDevice, exit: Exit): void {
    exit.lane.slots.release()
    if (this.#options.hold() === 'cancelled')
      this.#end(device, { state: 'withdrawn', reason: 'cancelled' }, this.#claim.failures)
  }

  async #shipment(exit: Exit, { content, name }: { content: Content; name: string }): Promise<Shipment | undefined> {
    const known = exit.shipments.get(name)
    if (known) return known
    try {
      const made = await exit.lane.prepare(sendable(this.#notification, content, this.#claim.aheadMs))
      if (exit.shipments.size >= shipmentsKept) exit.shipments.clear()
      exit.shipments.set(name, made)
      return made
    } catch (error) {
      this.#options.onFault(error)
      return undefined
    }
  }

  /** A platform's way out; looked for again when its credential was changed in the middle of a block. */
  async #exit(platform: Platform, rehearsal: boolean): Promise<Exit | Reason | 'fault'> {
    const known = this.#exits.get(exitName(platform, rehearsal))
    if (known === undefined) return this.#openExit(platform, rehearsal)
    return typeof known !== 'string' && known.lane.state === 'stale' ? this.#openExit(platform, rehearsal) : known
  }

  async #openExit(platform: Platform, rehearsal: boolean): Promise<Exit | Reason | 'fault'> {
    const { appNo, environment } = this.#notification
    let exit: Exit | Reason | 'fault'
    try {
      const lane = await this.#gateways.lane(appNo, environment, platform, rehearsal)
      exit = typeof lane === 'string' ? lane : { lane, shipments: new Map(), platform, rehearsal, accepted: false }
    } catch (error) {
      this.#options.onFault(error)
      exit = 'fault'
    }
    this.#exits.set(exitName(platform, rehearsal), exit)
    return exit
  }

  #launch(device: BlockDevice, exit: Exit, shipment: Shipment): void {
    this.#inTheAir++
    shipment.send(device).then(
      (outcome) => {
        this.#take(device, outcome, exit)
        this.#land(exit)
      },
      (error: unknown) => {
        this.#options.onFault(error)
        this.#waiting.push({ device, cause: 'internal-fault', retryAfterMs: 0 })
        this.#land(exit)
      },
    )
  }

  #land({ lane }: Exit): void {
    lane.slots.release()
    if (--this.#inTheAir === 0) this.#onLanded?.()
  }

  #take(device: BlockDevice, outcome: Outcome, exit: Exit): void {
    const answer = this.#answers.of(device, outcome, exit.lane)
    switch (outcome.is) {
      case 'accepted':
        this.#end(device, { state: 'accepted', gatewayReference: outcome.ref, answer }, this.#attempts)
        exit.accepted = true
        break
      case 'token-gone':
        this.#end(device, { state: 'refused', reason: 'token-gone', answer }, this.#attempts)
        break
      case 'refused':
        // Not the delivery's fault, and it can be mended: it waits for another credential, within its lifetime.
        if (outcome.reason === 'credential-rejected')
          this.#waiting.push({ device, cause: 'credential-rejected', retryAfterMs: 0 })
        else this.#end(device, { state: 'refused', reason: outcome.reason, answer }, this.#attempts)
        break
      case 'busy':
        this.#waiting.push({ device, cause: 'gateway-busy', retryAfterMs: outcome.retryAfterMs ?? 0 })
        break
      case 'unavailable':
        this.#waiting.push({
          device,
          cause: 'gateway-unreachable',
          retryAfterMs: outcome.retryAfterMs ?? 0,
          ...(outcome.untried ? { untried: true } : {}),
        })
        break
      default:
        outcome satisfies never
    }
  }

  #end(
    device: Pick<BlockDevice, 'no' | 'platform'>,
    how: Pick<Ended, 'state' | 'reason' | 'gatewayReference' | 'answer'>,
    attempts: number,
  ): void {
    // Every one of the same form: there are a million of them.
    this.#ended.push({
      deviceNo: device.no,
      platform: device.platform,
      state: how.state,
      reason: how.reason,
      attempts,
      gatewayReference: how.gatewayReference,
      answer: how.answer,
      atMs: this.#now(),
    })
  }

  #storeSometimes(): void {
    const { storeEveryMs } = this.#options
    if (this.#storing || this.#ended.length === 0 || this.#now() - this.#storedAtMs <= storeEveryMs) return
    this.#storing = this.#storeEnded().finally(() => {
      this.#storing = undefined
      this.#storedAtMs = this.#now()
    })
    // Its failure counts where it is awaited, at the end; here it only must not go unheard.
    this.#storing.catch(() => {
      this.#holding = false
    })
  }

  async #storeEnded(): Promise<void> {
    const ended = this.#ended
    this.#ended = []
    for (const one of ended) this.#open.delete(one.deviceNo)
    const held = await this.#store.storeOutcomes(this.#claim, { ended, remaining: [...this.#open], retries: [] })
    this.#holding &&= held
  }

  /** What waits comes back later, or has run out of its lifetime. */
  #planRetries(): Retry[] {
    const { chance, retry } = this.#options
    const plan = planRetries(this.#waiting, {
      failuresBefore: this.#claim.failures,
      leftMs: this.#expiresMs - this.#now(),
      retry,
      chance,
    })
    for (const { device, cause, failures } of plan.expired)
      this.#end(device, { state: 'expired', reason: cause }, failures)
    return plan.retries
  }
}
