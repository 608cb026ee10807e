import type { RetryOptions } from '@zbell/core'
import { planRetries, type Waiting } from './plan-retries.ts'
import type { WorkStore } from './ports.ts'
import type { BlockDevice, Claim, Ended } from './work.ts'

type BufferOptions = {
  readonly storeEveryMs: number
  /** The database's time, in ms since 1970. */
  readonly now: () => number
  readonly chance: () => number
  readonly retry: RetryOptions
}

/**
 * What became of a block's devices, until it is stored: a little while a block is sent, so that it can be watched, and the rest
 * at its end. Once the lease is lost nothing is stored any more.
 */
export class OutcomeBuffer {
  readonly #claim: Claim & { kind: 'send' }
  readonly #store: Pick<WorkStore, 'storeOutcomes'>
  readonly #options: BufferOptions
  /** Devices whose end is not stored yet. */
  readonly #open: Set<number>
  #ended: Ended[] = []
  readonly #waiting: Waiting[] = []
  #storing: Promise<void> | undefined
  #storedAtMs: number
  #holding = true

  constructor(claim: Claim & { kind: 'send' }, store: Pick<WorkStore, 'storeOutcomes'>, options: BufferOptions) {
    this.#claim = claim
    this.#store = store
    this.#options = options
    this.#open = new Set(claim.devices)
    this.#storedAtMs = options.now()
  }

  /** Whether the block is still this process's, as far as is known. */
  get holding(): boolean {
    return this.#holding
  }

  /** @param tries how many requests it has taken */
  end(
    device: Pick<BlockDevice, 'no' | 'platform' | 'userNo'>,
    how: Pick<Ended, 'state' | 'reason' | 'gatewayReference' | 'answer' | 'detail'>,
    tries: number,
  ): void {
    // Every one of the same form: there are a million of them.
    this.#ended.push({
      deviceNo: device.no,
      userNo: device.userNo,
      platform: device.platform,
      state: how.state,
      reason: how.reason,
      attempts: tries,
      gatewayReference: how.gatewayReference,
      answer: how.answer,
      detail: how.detail,
      atMs: this.#options.now(),
    })
  }

  /** It is not done with, and comes again. */
  wait(device: BlockDevice, cause: Waiting['cause'], retryAfterMs = 0, untried?: true): void {
    this.#waiting.push({ device, cause, retryAfterMs, ...(untried ? { untried } : {}) })
  }

  /** It comes in quiet hours, and again when they end. */
  waitForQuiet(device: BlockDevice, afterMs: number, spreadMs: number): void {
    this.#waiting.push({ device, cause: 'quiet-hours', retryAfterMs: afterMs, untried: true, spreadMs })
  }

  /** Stores what there is when it is time to. */
  storeSometimes(): void {
    const { storeEveryMs, now } = this.#options
    if (this.#storing || this.#ended.length === 0 || now() - this.#storedAtMs <= storeEveryMs) return
    this.#storing = this.#storeEnded().finally(() => {
      this.#storing = undefined
      this.#storedAtMs = now()
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

  /**
   * Stores the rest, and gives back what was not done.
   * @param expiresMs what would wait for longer has run out of its lifetime, by the database's clock
   * @returns false when the lease was lost: whatever was not stored is the next worker's
   */
  async storeRest(expiresMs: number): Promise<boolean> {
    await this.#storing
    if (!this.#holding) return false
    const { chance, retry, now } = this.#options
    const { retries, expired } = planRetries(this.#waiting, {
      failuresBefore: this.#claim.failures,
      leftMs: expiresMs - now(),
      retry,
      chance,
    })
    for (const { device, cause, failures } of expired) this.end(device, { state: 'expired', reason: cause }, failures)
    const remaining = this.#unsettled()
    const ended = this.#ended
    this.#ended = []
    return this.#store.storeOutcomes(this.#claim, { ended, remaining, retries, putBack: true })
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
}
