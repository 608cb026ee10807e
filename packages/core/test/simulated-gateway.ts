import { LearnedLimit } from '@zbell/core'

/** How a gateway takes one request: how long it will be, and whether it says "busy". */
export type SimulatedGateway = (nowMs: number, inFlight: number) => { readonly afterMs: number; readonly busy: boolean }

/** One that takes as long as it takes, however many ask. */
export const constantDelay =
  (delayMs: (nowMs: number) => number): SimulatedGateway =>
  (nowMs) => ({ afterMs: delayMs(nowMs), busy: false })

/** One with so many servers that each take so long; whoever finds none free stands in line. */
export function queueing(servers: number, serviceMs: (nowMs: number) => number): SimulatedGateway {
  const freeAt = new Array<number>(servers).fill(0)
  return (nowMs) => {
    let next = 0
    for (let i = 1; i < servers; i++) if (freeAt[i]! < freeAt[next]!) next = i
    freeAt[next] = Math.max(nowMs, freeAt[next]!) + serviceMs(nowMs)
    return { afterMs: freeAt[next]! - nowMs, busy: false }
  }
}

/** One that says "busy" to whoever comes while so many are on their way. */
export const busyAbove =
  (most: number, delayMs: number): SimulatedGateway =>
  (_nowMs, inFlight) =>
    inFlight > most ? { afterMs: 5, busy: true } : { afterMs: delayMs, busy: false }

/** What the last part of a simulation was like. */
export type Seen = {
  /** Good answers a second, of all processes together. */
  readonly perSecond: number
  readonly meanMs: number
  readonly busyShare: number
  /** Of each process. */
  readonly limits: readonly number[]
}

type Process = { readonly learned: LearnedLimit; taken: number }
type Arrival = { readonly atMs: number; readonly askedMs: number; readonly process: Process; readonly busy: boolean }

/**
 * Lets processes that always have something to send learn at a gateway, in simulated time.
 * @param chance in [0, 1); answers vary by a tenth
 * @returns what was seen from `fromSeconds` to `seconds`
 */
export function simulate(
  gateway: SimulatedGateway,
  given: { processes?: number; ceiling?: number; fromSeconds: number; seconds: number; chance: () => number },
): Seen {
  const { processes: count = 1, ceiling = 300, fromSeconds, seconds, chance } = given
  const processes = Array.from({ length: count }, () => ({ learned: new LearnedLimit(ceiling), taken: 0 }))
  const arrivals = new Heap<Arrival>((a, b) => a.atMs - b.atMs)
  let inFlight = 0
  const ask = (process: Process, nowMs: number) => {
    for (; process.taken < process.learned.limit; process.taken++) {
      const { afterMs, busy } = gateway(nowMs, ++inFlight)
      arrivals.add({ atMs: nowMs + afterMs * (0.9 + chance() * 0.2), askedMs: nowMs, process, busy })
    }
    process.learned.noteFull()
  }
  for (const process of processes) ask(process, 0)
  const seen = { good: 0, busy: 0, durationMs: 0 }
  for (let next = arrivals.take(); next && next.atMs <= seconds * 1_000; next = arrivals.take()) {
    const { atMs, askedMs, process, busy } = next
    process.taken--
    inFlight--
    process.learned.note(atMs - askedMs, busy, atMs)
    if (atMs >= fromSeconds * 1_000) {
      if (busy) seen.busy++
      else seen.good++
      seen.durationMs += atMs - askedMs
    }
    ask(process, atMs)
  }
  const all = seen.good + seen.busy
  return {
    perSecond: seen.good / (seconds - fromSeconds),
    meanMs: seen.durationMs / all,
    busyShare: seen.busy / all,
    limits: processes.map(({ learned }) => learned.limit),
  }
}

class Heap<T> {
  readonly #all: T[] = []
  readonly #order: (a: T, b: T) => number

  constructor(order: (a: T, b: T) => number) {
    this.#order = order
  }

  add(one: T): void {
    let at = this.#all.push(one) - 1
    for (let up = (at - 1) >> 1; at > 0 && this.#order(this.#all[at]!, this.#all[up]!) < 0; up = (at - 1) >> 1) {
      this.#swap(at, up)
      at = up
    }
  }

  take(): T | undefined {
    const [first] = this.#all
    const last = this.#all.pop()
    if (last === undefined || this.#all.length === 0) return first
    this.#all[0] = last
    for (let at = 0; ; ) {
      const [left, right] = [2 * at + 1, 2 * at + 2]
      let least = at
      for (const down of [left, right])
        if (down < this.#all.length && this.#order(this.#all[down]!, this.#all[least]!) < 0) least = down
      if (least === at) return first
      this.#swap(at, least)
      at = least
    }
  }

  #swap(a: number, b: number): void {
    const kept = this.#all[a]!
    this.#all[a] = this.#all[b]!
    this.#all[b] = kept
  }
}
