import { describe, expect, test } from '@jest/globals'
import {
  afterRequest,
  askCircuit,
  type Circuit,
  closedCircuit,
  learnInFlight,
  startInFlight,
  strangeCircuit,
  tryInFlight,
} from '@zbell/core'
import fc from 'fast-check'
import { inScope } from '../../../e2e/harness/scope.ts'
import { busyAbove, constantDelay, queueing, simulate } from './simulated-gateway.ts'

const failing = (circuit: Circuit, times: number, nowMs: number): Circuit =>
  Array.from({ length: times }).reduce<Circuit>((one) => afterRequest(one, false, nowMs), circuit)

describe('a circuit', () => {
  test('lets all through until ten in a row had no answer', () => {
    expect(askCircuit(failing(closedCircuit, 9, 0), 0).waitMs).toBe(0)
    expect(askCircuit(failing(closedCircuit, 10, 0), 0).waitMs).toBe(1_000)
  })
  test('an answer in between begins the count anew', () => {
    const almost = afterRequest(failing(closedCircuit, 9, 0), true, 0)
    expect(askCircuit(failing(almost, 9, 0), 0).waitMs).toBe(0)
  })
  test('whoever has never answered is let off after two, and is like any other once it has', () => {
    expect(askCircuit(failing(strangeCircuit, 1, 0), 0).waitMs).toBe(0)
    expect(askCircuit(failing(strangeCircuit, 2, 0), 0).waitMs).toBe(1_000)
    const known = afterRequest(strangeCircuit, true, 0)
    expect(askCircuit(failing(known, 9, 0), 0).waitMs).toBe(0)
  })
  test('one probe goes out after the rest; the others wait for what becomes of it', () => {
    const resting = failing(closedCircuit, 10, 0)
    const probe = askCircuit(resting, 1_000)
    expect(probe.waitMs).toBe(0)
    expect(askCircuit(probe.circuit, 1_001).waitMs).toBeGreaterThan(0)
    expect(askCircuit(afterRequest(probe.circuit, true, 1_100), 1_100)).toEqual({ waitMs: 0, circuit: closedCircuit })
  })
  test('a probe without an answer makes the next rest twice as long, up to half a minute', () => {
    let circuit = failing(closedCircuit, 10, 0)
    let nowMs = 0
    const rests: number[] = []
    for (let i = 0; i < 8; i++) {
      rests.push(circuit.untilMs - nowMs)
      nowMs = circuit.untilMs
      circuit = afterRequest(askCircuit(circuit, nowMs).circuit, false, nowMs)
    }
    expect(rests).toEqual([1_000, 2_000, 4_000, 8_000, 16_000, 30_000, 30_000, 30_000])
  })
  test('what was on its way when the rest began does not prolong it', () => {
    const resting = failing(closedCircuit, 10, 0)
    expect(failing(resting, 290, 500).untilMs).toBe(resting.untilMs)
  })
  test('never waits longer than half a minute, and always comes back after an answer', () => {
    const events = fc.array(fc.record({ answered: fc.boolean(), afterMs: fc.integer({ min: 0, max: 60_000 }) }))
    fc.assert(
      fc.property(events, (all) => {
        let circuit = closedCircuit
        let nowMs = 0
        for (const { answered, afterMs } of all) {
          nowMs += afterMs
          const asked = askCircuit(circuit, nowMs)
          expect(asked.waitMs).toBeLessThanOrEqual(30_000)
          circuit = asked.waitMs > 0 ? asked.circuit : afterRequest(asked.circuit, answered, nowMs)
          if (asked.waitMs === 0 && answered) expect(circuit).toEqual(closedCircuit)
        }
      }),
    )
  })
})

describe('requests in flight', () => {
  const seed = fc.integer({ min: 1, max: 2 ** 31 - 1 })
  /** Numbers in [0, 1) that a seed settles (Park and Miller). */
  const chanceOf = (from: number) => {
    let state = from
    return () => {
      state = (state * 48_271) % 2_147_483_647
      return (state - 1) / 2_147_483_646
    }
  }
  const few = { numRuns: inScope({ default: 2, all: 6, long: 30 }) }

  test('are as many as may be at a gateway whose answers take the same however many ask, short or long', () => {
    fc.assert(
      fc.property(seed, fc.constantFrom(20, 400, 1_000, 2_500), (from, delayMs) => {
        const seen = simulate(
          constantDelay(() => delayMs),
          { fromSeconds: 80, seconds: 120, chance: chanceOf(from) },
        )
        expect(seen.perSecond).toBeGreaterThan((300 / delayMs) * 1_000 * 0.85)
      }),
      few,
    )
  })
  test('stay as many when such a gateway becomes slow for reasons of its own', () => {
    fc.assert(
      fc.property(seed, fc.integer({ min: 600, max: 4_000 }), (from, slowMs) => {
        const seen = simulate(
          constantDelay((nowMs) => (nowMs < 3_000 ? 5 : slowMs)),
          { fromSeconds: 10, seconds: 80, chance: chanceOf(from) },
        )
        expect(seen.perSecond).toBeGreaterThan((300 / slowMs) * 1_000 * 0.85)
      }),
      few,
    )
  })
  test('fill a gateway that queues, and do not queue there for long', () => {
    fc.assert(
      fc.property(seed, fc.integer({ min: 5, max: 60 }), fc.constantFrom(20, 50, 500, 2_000), (from, some, ms) => {
        // With few slow servers a single look takes minutes.
        const servers = ms === 2_000 ? some + 20 : some
        const seen = simulate(
          queueing(servers, () => ms),
          { fromSeconds: 120, seconds: 240, chance: chanceOf(from) },
        )
        expect(seen.perSecond).toBeGreaterThan((servers / ms) * 1_000 * 0.9)
        // With the fewest in flight it can be longer than half a second.
        expect(seen.meanMs).toBeLessThan(Math.max(800, ms * 3, (16 / servers) * ms * 1.3))
      }),
      few,
    )
  })
  test('follow a gateway whose pace jumps, down and up', () => {
    fc.assert(
      fc.property(seed, fc.constantFrom([50, 500], [500, 50]), (from, [before, after]) => {
        const seen = simulate(
          queueing(20, (nowMs) => (nowMs < 30_000 ? before! : after!)),
          { fromSeconds: 110, seconds: 200, chance: chanceOf(from) },
        )
        expect(seen.perSecond).toBeGreaterThan((20 / after!) * 1_000 * 0.9)
        expect(seen.meanMs).toBeLessThan(Math.max(800, after! * 3))
      }),
      few,
    )
  })
  test('stay just below what makes a gateway say "busy"', () => {
    fc.assert(
      fc.property(seed, fc.integer({ min: 20, max: 250 }), (from, most) => {
        const seen = simulate(busyAbove(most, 40), { fromSeconds: 10, seconds: 40, chance: chanceOf(from) })
        expect(seen.perSecond).toBeGreaterThan((most / 40) * 1_000 * 0.85)
        expect(seen.busyShare).toBeLessThan(0.15)
      }),
      few,
    )
  })
  test('are not given up for a few that are told "busy" whatever is asked', () => {
    const chance = chanceOf(7)
    const moody = () => (chance() < 0.02 ? { afterMs: 5, busy: true } : { afterMs: 20, busy: false })
    expect(simulate(moody, { fromSeconds: 20, seconds: 30, chance }).limits[0]).toBeGreaterThan(200)
  })
  test('of many processes at one gateway fill it together, without a long queue', () => {
    fc.assert(
      fc.property(seed, fc.integer({ min: 2, max: 8 }), (from, processes) => {
        const chance = chanceOf(from)
        const queued = simulate(
          queueing(100, () => 100),
          { processes, fromSeconds: 60, seconds: 120, chance },
        )
        expect(queued.perSecond).toBeGreaterThan(900)
        expect(queued.meanMs).toBeLessThan(900)
        const slow = simulate(
          constantDelay(() => 2_500),
          { processes, fromSeconds: 80, seconds: 140, chance },
        )
        expect(slow.perSecond).toBeGreaterThan(processes * 120 * 0.85)
        const busy = simulate(busyAbove(200, 40), { processes, fromSeconds: 20, seconds: 40, chance })
        expect(busy.perSecond).toBeGreaterThan(5_000 * 0.8)
      }),
      { numRuns: inScope({ default: 1, all: 3, long: 15 }) },
    )
  })
  test('begin with 64, and while not all places are used nothing is learned of how many there should be', () => {
    expect(startInFlight(300).limit).toBe(64)
    expect(startInFlight(5).limit).toBe(5)
    const window = { meanMs: 5, busyShare: 0, full: false, heldMs: 0, nowMs: 0 }
    expect(learnInFlight(startInFlight(300), window, 300).limit).toBe(64)
    expect(learnInFlight(startInFlight(300), { ...window, full: true }, 300).limit).toBe(81)
    expect(learnInFlight(startInFlight(300), { ...window, meanMs: 9_000 }, 300).slowMs).toBeUndefined()
  })
  test('stay within their bounds, whatever is seen', () => {
    const windows = fc.array(
      fc.record({
        meanMs: fc.double({ min: 0.001, max: 1e6, noNaN: true }),
        busyShare: fc.double({ min: 0, max: 1, noNaN: true }),
        full: fc.boolean(),
        afterMs: fc.integer({ min: 0, max: 30_000 }),
      }),
    )
    fc.assert(
      fc.property(fc.integer({ min: 1, max: 5_000 }), windows, (ceiling, all) => {
        let learned = startInFlight(ceiling)
        let nowMs = 0
        for (const { afterMs, ...seen } of all) {
          nowMs += afterMs
          learned = learnInFlight(tryInFlight(learned, nowMs, ceiling), { ...seen, heldMs: afterMs, nowMs }, ceiling)
          expect(learned.limit).toBeGreaterThanOrEqual(Math.min(16, ceiling))
          expect(learned.limit).toBeLessThanOrEqual(ceiling)
        }
      }),
    )
  })
})
