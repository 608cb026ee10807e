import type { Logger } from 'pino'
import type { Claim } from '../store/work/claim-work.ts'
import type { Gateways, WorkStore } from './ports.ts'
import { sendBlock, sendBlockDefaults } from './send-block.ts'

export type WorkerOptions = {
  /** Pieces of work at a time. */
  readonly atOnce: number
  readonly leaseMs: number
  readonly pollMs: number
}

export type WorkerEvents = { onStored(notificationNo: number): void }

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
  readonly #held = new Set<number>()
  #running = false
  #loop: Promise<void> = Promise.resolve()
  #wake: () => void = () => {}

  constructor(store: WorkStore, gateways: Gateways, options: WorkerOptions, log: Logger, events: WorkerEvents) {
    this.#store = store
    this.#gateways = gateways
    this.#options = options
    this.#log = log
    this.#events = events
  }

  start(): void {
    this.#running = true
    this.#loop = this.#run()
  }

  /** There may be work: look now rather than at the next poll. */
  nudge(): void {
    this.#wake()
  }

  /** Takes no more work and finishes what is at hand. */
  async stop(): Promise<void> {
    this.#running = false
    this.#wake()
    await this.#loop
    await Promise.all(this.#active)
  }

  async #run(): Promise<void> {
    while (this.#running) {
      // The ear is open before the look, so that a nudge during the look is not lost.
      const rest = this.#rest()
      const found = this.#active.size < this.#options.atOnce && (await this.#claimOne())
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

  async #claimOne(): Promise<boolean> {
    let claim: Claim | undefined
    try {
      claim = await this.#store.claim([...this.#held])
    } catch (error) {
      this.#log.warn({ err: error }, 'cannot look for work; trying again')
      // After an outage all leases have run out. Whoever holds work has to renew its own before anybody looks for more.
      await new Promise((done) => setTimeout(done, afterOutageMs))
      return false
    }
    if (!claim) return false
    this.#held.add(claim.no)
    const work = this.#do(claim).finally(() => {
      this.#held.delete(claim.no)
      this.#active.delete(work)
      this.nudge()
    })
    this.#active.add(work)
    return true
  }

  async #do(claim: Claim): Promise<void> {
    const alive = setInterval(() => {
      this.#store
        .extend(claim)
        .catch((error: unknown) => this.#log.warn({ err: error, work: claim.no }, 'cannot extend a lease'))
    }, this.#options.leaseMs / 3)
    try {
      await this.#handle(claim)
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

  async #handle(claim: Claim): Promise<void> {
    const notification = await this.#store.notification(claim.notificationNo)
    if (!notification) throw new Error('there is work for a notification that is not there')
    if (claim.kind === 'send') {
      const held = await sendBlock(claim, notification, this.#store, this.#gateways, {
        ...sendBlockDefaults,
        onFault: (error) =>
          this.#log.error(
            { err: error, notification: notification.id },
            'a device could not be sent to; trying again later',
          ),
      })
      if (!held) this.#log.warn({ work: claim.no }, 'the lease of a block was lost; its new owner goes on')
      this.#events.onStored(notification.no)
      return
    }
    for (;;) {
      const expansion = await this.#store.expandPage(claim, notification)
      this.#events.onStored(notification.no)
      this.nudge()
      if (expansion !== 'more') return
    }
  }
}
