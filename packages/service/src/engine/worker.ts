import { setMaxListeners } from 'node:events'
import { urgencies } from '@zbell/core'
import type { Logger } from 'pino'
import { Poller } from '../base/index.ts'
import type { Halt, Notification } from './notification.ts'
import type { Gateways, WorkStore } from './ports.ts'
import type { Ahead } from './prepare-ahead.ts'
import { sendBlock } from './send-block.ts'
import { sendBlockDefaults } from './send-options.ts'
import type { Offer, Signals } from './signals.ts'
import type { Claim, LeasedWork, Withdrawal } from './work.ts'

export type WorkerOptions = {
  /** Pieces of work at a time. */
  readonly atOnce: number
  readonly leaseMs: number
  readonly pollMs: number
}

/** So many more pieces at a time are taken of what is urgent: a person waits for it. */
const urgentExtra = 2
/** How often to look whether somebody holds back what is being sent. */
const pausePollMs = 250

const maxUrgent = urgencies.indexOf('high')

/** How long others get to renew their leases when the database is back. */
const afterOutageMs = 1_000
/** How long a piece of work that failed because of an internal error rests before the next try. */
const afterFaultMs = 5_000

/** Claims work and does it, a few pieces at a time, until it is stopped. Faults of one piece never reach another. */
export class Worker {
  readonly #store: WorkStore
  readonly #gateways: Gateways
  readonly #options: WorkerOptions
  readonly #log: Logger
  readonly #signals: Signals
  readonly #active = new Set<Promise<void>>()
  readonly #held = new Map<number, Claim>()
  /** Of what is at hand: how it was held when it was last looked at. */
  #pauses = new Map<number, Halt>()
  readonly #work: Poller
  readonly #pausePoller: Poller
  #isRunning = false
  readonly #givenUp = new AbortController()

  constructor(store: WorkStore, gateways: Gateways, options: WorkerOptions, log: Logger, signals: Signals) {
    // Each block at hand listens.
    setMaxListeners(0, this.#givenUp.signal)
    this.#store = store
    this.#gateways = gateways
    this.#options = options
    this.#log = log
    this.#signals = signals
    this.#work = new Poller({
      name: 'due work',
      everyMs: options.pollMs,
      // After an outage all leases have run out. Whoever holds work has to extend its own before anybody claims more.
      outageMs: afterOutageMs,
      log,
      poll: () => this.#claimOne(),
    })
    this.#pausePoller = new Poller({ name: 'pauses', everyMs: pausePollMs, log, poll: () => this.#readPauses() })
    signals.on('work', (offer) => (offer ? this.#take(offer) : this.#work.wake()))
    signals.on('pause', () => {
      this.#pausePoller.wake()
      this.#work.wake()
    })
  }

  start(): void {
    this.#isRunning = true
    this.#work.start(0)
    this.#pausePoller.start()
  }

  /** Sends what was leased for this process as it was stored, where there is room for it. */
  #take({ work, ahead }: Offer): void {
    if (this.#isRunning && this.#active.size < this.#options.atOnce + urgentExtra) this.#begin(work, ahead)
    else
      this.#store
        .release(work.claim, 0)
        .catch((error: unknown) => this.#log.warn({ err: error }, 'cannot release work; its lease will run out'))
        .finally(() => this.#work.wake())
  }

  async #readPauses(): Promise<void> {
    const numbers = [...new Set([...this.#held.values()].map(({ notificationNo }) => notificationNo))]
    this.#pauses = numbers.length === 0 ? new Map() : await this.#store.pausesOf(numbers)
  }

  /** Whether something is being sent. */
  get isBusy(): boolean {
    return this.#active.size > 0
  }

  /**
   * Takes no more work and launches nothing more. What is on its way may land; the rest of the work at hand is given back.
   * @param landMs how long what is on its way is waited for
   */
  async stop(landMs: number): Promise<void> {
    this.#isRunning = false
    const enough = setTimeout(() => this.#givenUp.abort(), landMs)
    await Promise.all([this.#work.close(), this.#pausePoller.close()])
    await Promise.all(this.#active)
    clearTimeout(enough)
  }

  /** @returns whether there was some, and there may be more */
  async #claimOne(): Promise<boolean> {
    const room = this.#options.atOnce - this.#active.size
    if (room <= -urgentExtra) return false
    const work = await this.#store.claim([...this.#held.keys()], room > 0 ? 0 : maxUrgent)
    if (work) this.#begin(work)
    return work !== undefined
  }

  #begin(work: LeasedWork, ahead?: Promise<Ahead | undefined>): void {
    const { no } = work.claim
    this.#held.set(no, work.claim)
    const done = this.#do(work, ahead).finally(() => {
      this.#held.delete(no)
      this.#active.delete(done)
      this.#work.wake()
    })
    this.#active.add(done)
  }

  async #do(work: LeasedWork, ahead?: Promise<Ahead | undefined>): Promise<void> {
    const { claim } = work
    const alive = setInterval(() => {
      this.#store
        .extend(claim)
        .catch((error: unknown) => this.#log.warn({ err: error, work: claim.no }, 'cannot extend a lease'))
    }, this.#options.leaseMs / 3)
    try {
      await this.#handle(work, await ahead)
    } catch (error) {
      this.#log.error(
        { err: error, work: claim.no, notification: claim.notificationNo },
        'work failed and will be tried again',
      )
      // When the database is the trouble this fails too; then the lease runs out, and the work is claimed anew.
      await this.#store
        .release(claim, afterFaultMs)
        .catch((again: unknown) => this.#log.warn({ err: again }, 'cannot give work back'))
    } finally {
      clearInterval(alive)
    }
  }

  async #handle({ claim, notification, devices: known }: LeasedWork, ahead: Ahead | undefined): Promise<void> {
    if (claim.kind === 'send') {
      // What was just read is newer than the last look.
      this.#pauses.set(notification.no, notification.stopped ? 'stopped' : notification.pause)
      const store = known ? { ...this.#store, devices: async () => [...known] } : this.#store
      const options = {
        ...sendBlockDefaults,
        pause: () => (this.#isRunning ? (this.#pauses.get(notification.no) ?? 'none') : 'stopping'),
        givenUp: this.#givenUp.signal,
        onFault: (error: unknown) =>
          this.#log.error(
            { err: error, notification: notification.id },
            'a device could not be sent to; trying again later',
          ),
      }
      const held = await sendBlock(claim, notification, store, this.#gateways, options, ahead)
      if (!held) this.#log.warn({ work: claim.no }, 'the lease of a block was lost; its new owner goes on')
      this.#signals.emit('change')
      return
    }
    if (claim.kind === 'withdraw') await this.#pages(claim, (after) => this.#store.withdrawPage(claim, after))
    else if (claim.kind === 'refund') await this.#pages(claim, (after) => this.#store.refundPage(claim, after))
    else await this.#expand(claim, notification)
  }

  async #expand(claim: Claim, notification: Notification): Promise<void> {
    for (;;) {
      const expansion = await this.#store.expandPage(claim, notification)
      this.#signals.emit('change')
      this.#signals.emit('work')
      if (expansion !== 'more') return
      if (!this.#isRunning) return this.#store.release(claim, 0)
    }
  }

  /** Does a page after the other, until all is done or this process is to stop. */
  async #pages(claim: Claim, next: (after: number) => Promise<Withdrawal>): Promise<void> {
    for (let after = 0; ; ) {
      const page = await next(after)
      this.#signals.emit('change')
      if (page.is !== 'more') return
      if (!this.#isRunning) return this.#store.release(claim, 0)
      after = page.after
    }
  }
}
