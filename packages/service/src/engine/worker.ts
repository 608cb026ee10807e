import { setMaxListeners } from 'node:events'
import { urgencies } from '@zbell/core'
import type { Logger } from 'pino'
import type { Halt, Notification } from './notification.ts'
import type { Gateways, WorkStore } from './ports.ts'
import type { Ahead } from './prepare-ahead.ts'
import { sendBlock } from './send-block.ts'
import { sendBlockDefaults } from './send-options.ts'
import type { Claim, HeldWork, Withdrawal } from './work.ts'

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

export type WorkerEvents = { onStored(notificationNo: number): void }

const mostUrgent = urgencies.indexOf('high')

/** How long others get to renew their leases when the database is back. */
const afterOutageMs = 1_000
/** How long a piece of work that failed by a fault of ours rests before the next try. */
const afterFaultMs = 5_000

/** Claims work and does it, a few pieces at a time, until it is stopped. Faults of one piece never reach another. */
export class Worker {
  readonly #store: WorkStore
  readonly #gateways: Gateways
  readonly #options: WorkerOptions
  readonly #log: Logger
  readonly #events: WorkerEvents
  readonly #active = new Set<Promise<void>>()
  readonly #held = new Map<number, Claim>()
  /** Of what is at hand: how it was held when it was last looked at. */
  #pauses = new Map<number, Halt>()
  #looking: NodeJS.Timeout | undefined
  #running = false
  readonly #givenUp = new AbortController()
  #loop: Promise<void> = Promise.resolve()
  #wake: () => void = () => {}

  constructor(store: WorkStore, gateways: Gateways, options: WorkerOptions, log: Logger, events: WorkerEvents) {
    // Each block at hand listens.
    setMaxListeners(0, this.#givenUp.signal)
    this.#store = store
    this.#gateways = gateways
    this.#options = options
    this.#log = log
    this.#events = events
  }

  start(): void {
    this.#running = true
    this.#loop = this.#run()
    this.#looking = setInterval(() => void this.refreshPauses(), pausePollMs)
  }

  /** Sends what intake claimed for this process; it has not been in the queue. @returns false when there is no room for it */
  take(mine: HeldWork, ahead?: Promise<Ahead | undefined>): boolean {
    if (!this.#running || this.#active.size >= this.#options.atOnce + urgentExtra) return false
    this.#begin(mine, ahead)
    return true
  }

  /** Somebody may have paused or cancelled what is being sent. */
  async refreshPauses(): Promise<void> {
    const numbers = [...new Set([...this.#held.values()].map(({ notificationNo }) => notificationNo))]
    if (numbers.length === 0) {
      this.#pauses.clear()
      return
    }
    try {
      this.#pauses = await this.#store.pausesOf(numbers)
    } catch (error) {
      this.#log.debug({ err: error }, 'cannot look for holds; looking again soon')
    }
  }

  /** Whether something is being sent. */
  get isBusy(): boolean {
    return this.#active.size > 0
  }

  /** There may be work: look now rather than at the next poll. */
  nudge(): void {
    this.#wake()
  }

  /**
   * Takes no more work and launches nothing more. What is on its way may land; the rest of the work at hand is given back.
   * @param landMs how long what is on its way is waited for
   */
  async stop(landMs: number): Promise<void> {
    this.#running = false
    clearInterval(this.#looking)
    this.#wake()
    const enough = setTimeout(() => this.#givenUp.abort(), landMs)
    await this.#loop
    await Promise.all(this.#active)
    clearTimeout(enough)
  }

  async #run(): Promise<void> {
    while (this.#running) {
      // The ear is open before the look, so that a nudge during the look is not lost.
      const rest = this.#rest()
      const room = this.#options.atOnce - this.#active.size
      const found = room > -urgentExtra && (await this.#claimOne(room > 0 ? 0 : mostUrgent))
      if (found) this.#wake()
      else await rest
    }
  }

  #rest(): Promise<void> {
    return new Promise((done) => {
      const timer = setTimeout(done, this.#options.pollMs)
      this.#wake = () => {
        clearTimeout(timer)
        done()
      }
    })
  }

  async #claimOne(least: number): Promise<boolean> {
    let work: HeldWork | undefined
    try {
      work = await this.#store.claim([...this.#held.keys()], least)
    } catch (error) {
      this.#log.warn({ err: error }, 'cannot look for work; trying again')
      // After an outage all leases have run out. Whoever holds work has to renew its own before anybody looks for more.
      await new Promise((done) => setTimeout(done, afterOutageMs))
      return false
    }
    if (!work) return false
    this.#begin(work)
    return true
  }

  #begin(work: HeldWork, ahead?: Promise<Ahead | undefined>): void {
    const { no } = work.claim
    this.#held.set(no, work.claim)
    const done = this.#do(work, ahead).finally(() => {
      this.#held.delete(no)
      this.#active.delete(done)
      this.nudge()
    })
    this.#active.add(done)
  }

  async #do(work: HeldWork, ahead?: Promise<Ahead | undefined>): Promise<void> {
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

  async #handle({ claim, notification, devices: known }: HeldWork, ahead: Ahead | undefined): Promise<void> {
    if (claim.kind === 'send') {
      // What was just read is newer than the last look.
      this.#pauses.set(notification.no, notification.stopped ? 'stopped' : notification.pause)
      const store = known ? { ...this.#store, devices: async () => [...known] } : this.#store
      const options = {
        ...sendBlockDefaults,
        pause: () => (this.#running ? (this.#pauses.get(notification.no) ?? 'none') : 'stopping'),
        givenUp: this.#givenUp.signal,
        onFault: (error: unknown) =>
          this.#log.error(
            { err: error, notification: notification.id },
            'a device could not be sent to; trying again later',
          ),
      }
      const held = await sendBlock(claim, notification, store, this.#gateways, options, ahead)
      if (!held) this.#log.warn({ work: claim.no }, 'the lease of a block was lost; its new owner goes on')
      this.#events.onStored(notification.no)
      return
    }
    if (claim.kind === 'withdraw') await this.#pages(claim, (after) => this.#store.withdrawPage(claim, after))
    else if (claim.kind === 'give-back') await this.#pages(claim, (after) => this.#store.giveBackPage(claim, after))
    else await this.#expand(claim, notification)
  }

  async #expand(claim: Claim, notification: Notification): Promise<void> {
    for (;;) {
      const expansion = await this.#store.expandPage(claim, notification)
      this.#events.onStored(notification.no)
      this.nudge()
      if (expansion !== 'more') return
      if (!this.#running) return this.#store.release(claim, 0)
    }
  }

  /** Does a page after the other, until all is done or this process is to stop. */
  async #pages(claim: Claim, next: (after: number) => Promise<Withdrawal>): Promise<void> {
    for (let after = 0; ; ) {
      const page = await next(after)
      this.#events.onStored(claim.notificationNo)
      if (page.is !== 'more') return
      if (!this.#running) return this.#store.release(claim, 0)
      after = page.after
    }
  }
}
