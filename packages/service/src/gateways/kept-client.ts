import type { GatewayHealth } from '@zbell/contract'
import { AnswerWindow, type GatewayAnswer, type Outcome, quantileMs, toldMs } from '@zbell/core'
import type { Address, GatewayClient, PreparedRequest, Sendable, Via } from '../engine/index.ts'
import type { ConcurrencyLimiter } from './limiter.ts'

export type ClientHealth = Omit<GatewayHealth, 'environment' | 'platform' | 'rehearsal'>

/** How to speak to one kind of gateway. */
export type Protocol = {
  prepare(notification: Sendable): Promise<PreparedRequest>
  /**
   * Makes one request to be looked at, and sends it when it is asked to. Unlike a prepared request it throws.
   * @throws {NoAnswer} @throws {CredentialRejected}
   */
  trial(notification: Sendable, address: Address, send: boolean): Promise<Trial>
  /** Where each address leads to an origin of its own: the places there. Otherwise all share the client’s. */
  placesOf?(address: Pick<Address, 'token'>): ConcurrencyLimiter | undefined
  /** All that it has. */
  readonly limiter?: readonly ConcurrencyLimiter[]
  /** Until when an origin rests that gives no answer, in ms since 1970; 0 when none does. */
  readonly backoffUntilMs: number
  close(): Promise<void>
}

export type Trial = {
  readonly request: {
    readonly method: string
    readonly url: string
    readonly headers: Readonly<Record<string, string>>
    readonly body: string
  }
  readonly answer?: GatewayAnswer
  readonly outcome?: Outcome
  /** Lower case: its value says who asks, and is shown to nobody. */
  readonly secretHeader?: string
}

export type ClientEvents = {
  /** The gateway accepted the credential; told at most once a minute. */
  onUsed(): void
  /** The gateway began to refuse the credential. */
  onRejected(): void
  /** A request came to its end. */
  onAnswer(durationMs: number, outcome: Outcome['is']): void
}

/** A halted client lets one device through after so long, to see whether the gateway has changed its mind. */
const probeAfterMs = 20_000
const usedEveryMs = 60_000
/** Whoever is asked for so long and gives no answer is overloaded, or not there. */
const silentMs = 500

/**
 * A client with a memory: it halts at once when the gateway refuses its credential, so that deliveries wait instead of
 * failing one by one, and it knows when another client has taken its place.
 */
export class KeptClient implements GatewayClient {
  readonly via: Via
  readonly #limiter: ConcurrencyLimiter
  readonly #protocol: Protocol
  readonly #events: ClientEvents
  readonly #now: () => number
  #haltedAtMs: number | undefined
  #usedAtMs = 0
  #stale = false
  readonly #answers = new AnswerWindow()

  constructor(
    protocol: Protocol,
    via: Via,
    limiter: ConcurrencyLimiter,
    events: ClientEvents,
    now: () => number = Date.now,
  ) {
    this.#protocol = protocol
    this.via = via
    this.#limiter = limiter
    this.#events = events
    this.#now = now
  }

  limiterOf(address: Pick<Address, 'token'>): ConcurrencyLimiter {
    return this.#protocol.placesOf?.(address) ?? this.#limiter
  }

  get leadsToMany(): boolean {
    return this.#protocol.placesOf !== undefined
  }

  get state(): GatewayClient['state'] {
    if (this.#stale) return 'stale'
    if (this.#haltedAtMs === undefined) return 'open'
    if (this.#now() - this.#haltedAtMs < probeAfterMs) return 'halted'
    // This one device goes through; the others wait for what becomes of it.
    this.#haltedAtMs = this.#now()
    return 'open'
  }

  /** How it does; asking changes nothing. */
  get health(): ClientHealth {
    const nowMs = this.#now()
    const { outcomes, durations } = this.#answers.read(nowMs)
    const { backoffUntilMs } = this.#protocol
    const limiter = [this.#limiter, ...(this.#protocol.limiter ?? [])]
    const sum = (of: (one: ConcurrencyLimiter) => number) => limiter.reduce((all, one) => all + of(one), 0)
    const [medianMs, p99Ms] = [0.5, 0.99].map((share) => quantileMs(durations, share))
    return {
      gateway: this.via.gateway,
      credential: this.via.credential,
      state: this.#haltedAtMs !== undefined ? 'halted' : backoffUntilMs > nowMs ? 'resting' : 'open',
      restsUntil: backoffUntilMs > nowMs ? new Date(backoffUntilMs).toISOString() : null,
      inFlight: sum(({ inFlight }) => inFlight),
      // The client’s own limit holds for none, where each origin has its own.
      inFlightLimit: this.leadsToMany ? sum(({ limit }) => limit) - this.#limiter.limit : this.#limiter.limit,
      answers: Object.fromEntries(outcomes),
      medianMs: medianMs === undefined ? null : toldMs(medianMs),
      p99Ms: p99Ms === undefined ? null : toldMs(p99Ms),
    }
  }

  async prepare(notification: Sendable): Promise<PreparedRequest> {
    const prepared = await this.#protocol.prepare(notification)
    return {
      send: (address: Address) => {
        const startMs = performance.now()
        return prepared.send(address).then((outcome) => {
          this.#note(outcome)
          const durationMs = performance.now() - startMs
          const given = outcome.answered !== undefined
          // A connection that fails at once says nothing of how many requests the gateway takes well; silence does.
          if (given || durationMs >= silentMs)
            this.limiterOf(address).note(durationMs, outcome.is === 'busy' || !given, given)
          this.#answers.note(outcome.is, durationMs, this.#now())
          this.#events.onAnswer(durationMs, outcome.is)
          return outcome
        })
      },
    }
  }

  /** Another client takes over; what is on its way still arrives. */
  async replace(): Promise<void> {
    this.#stale = true
    await this.#protocol.close()
  }

  #note(outcome: Outcome): void {
    if (outcome.is === 'refused' && outcome.reason === 'credential-rejected') {
      const first = this.#haltedAtMs === undefined
      this.#haltedAtMs = this.#now()
      if (first) this.#events.onRejected()
      return
    }
    if (outcome.is !== 'accepted') return
    const wasHalted = this.#haltedAtMs !== undefined
    this.#haltedAtMs = undefined
    if (!wasHalted && this.#now() - this.#usedAtMs < usedEveryMs) return
    this.#usedAtMs = this.#now()
    this.#events.onUsed()
  }
}
