import {
  type Content,
  MalformedText,
  type Outcome,
  ProfileAtFault,
  type Rendered,
  Renderer,
  readerOf,
  type Values,
} from '@zbell/core'
import { Answers } from './answers.ts'
import type { Notification } from './notification.ts'
import { type OpenClient, OpenClients } from './open-clients.ts'
import { OutcomeBuffer } from './outcome-buffer.ts'
import type { GatewayClient, Gateways, Limiter, PreparedRequest, WorkStore } from './ports.ts'
import type { Ahead } from './prepare-ahead.ts'
import { RingChecks } from './ring-checks.ts'
import { type SendBlockOptions, sendBlockDefaults } from './send-options.ts'
import { unlessAborted } from './unless-aborted.ts'
import type { BlockDevice, Claim } from './work.ts'

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

/** A device whose push service nobody has ever heard from is asked so often for one delivery. */
const silentTries = 4

class BlockRun {
  readonly #claim: Claim & { kind: 'send' }
  readonly #notification: Notification
  readonly #store: WorkStore
  readonly #options: SendBlockOptions
  readonly #attempts: number
  readonly #urgent: boolean
  readonly #expiresMs: number
  readonly #outcomes: OutcomeBuffer
  readonly #clients: OpenClients
  readonly #renderer: Renderer
  #values = new Map<number, Values>()
  readonly #answers = new Answers()
  /** Clients whose credential the gateway refused. */
  readonly #rejecting = new Set<GatewayClient>()
  #inTheAir = 0
  #onLanded: (() => void) | undefined

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
    this.#options = options
    this.#attempts = claim.failures + 1
    this.#urgent = notification.urgency === 'high'
    this.#expiresMs = notification.expiresAt.getTime()
    this.#outcomes = new OutcomeBuffer(claim, store, { ...options, now: () => this.#now() })
    this.#renderer = ahead?.renderer ?? new Renderer(notification.content, notification.filling)
    this.#clients = ahead?.clients ?? new OpenClients(notification, gateways)
  }

  async run(): Promise<boolean> {
    await unlessAborted(this.#sendAll(), this.#options.givenUp)
    const held = await this.#outcomes.storeRest(this.#expiresMs)
    if (!this.#outcomes.holding) return false
    // Whoever put another credential in use woke what waited for one; what was refused before that and is stored only now
    // would sleep through it.
    if ([...this.#rejecting].some((client) => client.state === 'stale')) await this.#store.wakeRejected(this.#claim)
    for (const { platform, rehearsal } of this.#clients.accepted)
      await this.#store.noteAccepted(this.#notification, platform, rehearsal)
    return held
  }

  /** The database's time: lifetimes are measured by it, whoever wrote them. */
  #now(): number {
    return this.#options.now() + this.#claim.aheadMs
  }

  async #sendAll(): Promise<void> {
    const devices = await this.#store.devices(this.#claim.devices)
    this.#endMissing(devices)
    await this.#readValues(devices)
    const checks = await RingChecks.read(this.#claim, this.#notification, this.#store, devices, this.#now())
    for (const device of devices) {
      if (!this.#outcomes.holding) break
      const pause = this.#options.pause()
      if (pause === 'paused' || pause === 'stopped' || pause === 'stopping') break
      if (pause === 'cancelled')
        this.#outcomes.end(device, { state: 'withdrawn', reason: 'cancelled' }, this.#claim.failures)
      else {
        // What can go at once costs no turn of the event loop.
        const wait = this.#send(device, checks)
        if (wait) await wait
      }
      this.#outcomes.storeSometimes()
    }
    await this.#landed()
  }

  /** What the texts need to know of their readers. */
  async #readValues(devices: readonly BlockDevice[]): Promise<void> {
    const { content } = this.#notification
    const speaks = content.perLanguage || Object.values(content.perPlatform ?? {}).some((one) => one?.perLanguage)
    if (!speaks && !this.#isPersonal()) return
    const people = [...new Set(devices.flatMap(({ userNo }) => userNo ?? []))]
    this.#values = await this.#store.values(people)
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
        this.#outcomes.end(
          { no, platform: 'web', userNo: null },
          { state: 'skipped', reason: 'unregistered' },
          this.#claim.failures,
        )
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
  #send(device: BlockDevice, checks: RingChecks): Promise<void> | undefined {
    const { failures } = this.#claim
    const notNow = checks.notNow(device, this.#now())
    if (notNow?.is === 'ends') this.#outcomes.end(device, notNow, failures)
    else if (notNow) this.#outcomes.waitForQuiet(device, notNow.afterMs, notNow.spreadMs)
    if (notNow) return undefined
    const rendered = this.#rendered(device)
    if (rendered === undefined) {
      this.#outcomes.wait(device, 'internal-fault')
      return undefined
    }
    if (rendered.is === 'missing') {
      this.#outcomes.end(device, { state: 'skipped', reason: 'missing-value' }, failures)
      return undefined
    }
    const ready = this.#clients.atHand(device, rendered.name)
    if (!ready) return this.#sendSlowly(device, rendered)
    const { open, request } = ready
    const limiter = open.client.limiterOf(device)
    const turn = limiter.take(this.#urgent)
    if (!turn) this.#launch(device, open, limiter, request)
    else if (!open.client.leadsToMany) return turn.then(() => this.#goOn(device, open, limiter, request))
    else this.#queueUp(turn, () => this.#goOn(device, open, limiter, request))
    return undefined
  }

  /** It waits at one of many places; the next device may be for another, and goes on. */
  #queueUp(turn: Promise<void>, then: () => void): void {
    this.#inTheAir++
    void turn.then(then).finally(() => {
      if (--this.#inTheAir === 0) this.#onLanded?.()
    })
  }

  /** The first of its kind: its client is opened, its request prepared. */
  async #sendSlowly(device: BlockDevice, rendered: { content: Content; name: string }): Promise<void> {
    const open = await this.#clients.open(device, this.#options.onFault)
    if (open === 'fault') this.#outcomes.wait(device, 'internal-fault')
    else if (typeof open === 'string')
      this.#outcomes.end(device, { state: 'refused', reason: open }, this.#claim.failures)
    else if (open.client.state === 'halted') this.#waitForCredential(device, open)
    else {
      let request: PreparedRequest
      try {
        request = await this.#clients.prepare(open, rendered, this.#claim.aheadMs)
      } catch (error) {
        // The app's own to mend: whoever asks why is told so.
        const isProfiles = error instanceof ProfileAtFault
        if (!isProfiles) this.#options.onFault(error)
        this.#outcomes.wait(device, isProfiles ? 'profile-at-fault' : 'internal-fault')
        return
      }
      const limiter = open.client.limiterOf(device)
      const turn = limiter.take(this.#urgent)
      if (turn && open.client.leadsToMany) {
        this.#queueUp(turn, () => this.#goOn(device, open, limiter, request))
        return
      }
      await turn
      this.#goOn(device, open, limiter, request)
    }
  }

  /** The wait for a place can have been long: what was true before it may not be any more. */
  #goOn(device: BlockDevice, open: OpenClient, limiter: Limiter, request: PreparedRequest): void {
    if (this.#options.pause() === 'none') this.#launch(device, open, limiter, request)
    else this.#putBack(device, limiter)
  }

  /** A text that cannot be read was kept by an earlier version: it holds up its own deliveries, and no others. */
  #rendered(device: BlockDevice): Rendered | undefined {
    const own = (device.userNo === null ? undefined : this.#values.get(device.userNo)) ?? {}
    try {
      return this.#renderer.render(readerOf(device, own))
    } catch (error) {
      this.#options.onFault(error)
      return undefined
    }
  }

  /** The notification was stopped, or we are to stop, while this device waited for a place: it is not sent. */
  #putBack(device: BlockDevice, limiter: Limiter): void {
    limiter.release()
    if (this.#options.pause() === 'cancelled')
      this.#outcomes.end(device, { state: 'withdrawn', reason: 'cancelled' }, this.#claim.failures)
  }

  #launch(device: BlockDevice, open: OpenClient, limiter: Limiter, request: PreparedRequest): void {
    this.#inTheAir++
    request.send(device).then(
      (outcome) => {
        this.#take(device, outcome, open)
        this.#land(limiter)
      },
      (error: unknown) => {
        this.#options.onFault(error)
        this.#outcomes.wait(device, 'internal-fault')
        this.#land(limiter)
      },
    )
  }

  #land(limiter: Limiter): void {
    limiter.release()
    if (--this.#inTheAir === 0) this.#onLanded?.()
    // Whoever takes long to answer keeps nobody from seeing what became of the others.
    else if (this.#onLanded) this.#outcomes.storeSometimes()
  }

  /** What is kept of the way here: *Why* tells it. */
  get #waitedFor(): string | undefined {
    return this.#claim.cause === 'quiet-hours' ? this.#claim.cause : undefined
  }

  #waitForCredential(device: BlockDevice, { client }: OpenClient): void {
    this.#rejecting.add(client)
    this.#outcomes.wait(device, 'credential-rejected')
  }

  #take(device: BlockDevice, outcome: Outcome, open: OpenClient): void {
    const answer = this.#answers.of(device, outcome, open.client)
    switch (outcome.is) {
      case 'accepted':
        this.#outcomes.end(
          device,
          { state: 'accepted', gatewayReference: outcome.ref, answer, detail: this.#waitedFor },
          this.#attempts,
        )
        open.accepted = true
        break
      case 'token-gone':
        this.#outcomes.end(device, { state: 'refused', reason: 'token-gone', answer }, this.#attempts)
        break
      case 'refused':
        // Not the delivery's fault, and it can be mended: it waits for another credential, within its lifetime.
        if (outcome.reason === 'credential-rejected') this.#waitForCredential(device, open)
        else this.#outcomes.end(device, { state: 'refused', reason: outcome.reason, answer }, this.#attempts)
        break
      case 'busy':
        this.#outcomes.wait(device, 'gateway-busy', outcome.retryAfterMs)
        break
      case 'unavailable':
        if (outcome.silent && this.#attempts >= silentTries) {
          this.#outcomes.end(device, { state: 'refused', reason: 'push-service-silent', answer }, this.#attempts)
          break
        }
        this.#outcomes.wait(device, 'gateway-unreachable', outcome.retryAfterMs, outcome.untried)
        break
      default:
        outcome satisfies never
    }
  }
}
