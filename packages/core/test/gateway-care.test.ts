import { describe, expect, test } from '@jest/globals'
import { afterRequest, askCircuit, type Circuit, closedCircuit, learnInFlight, startInFlight } from '@zbell/core'
import fc from 'fast-check'

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
  test('become more while the gateway keeps up, and never more than the ceiling', () => {
    let learned = startInFlight(300)
    expect(learned.limit).toBe(64)
    for (let i = 0; i < 20; i++) learned = learnInFlight(learned, 20, false, 300)
    expect(learned.limit).toBe(300)
  })
  test('become fewer when it is busy or slow, and never none', () => {
    let learned = learnInFlight(startInFlight(300), 20, false, 300)
    const before = learned.limit
    learned = learnInFlight(learned, 20, true, 300)
    expect(learned.limit).toBeLessThan(before)
    for (let i = 0; i < 50; i++) learned = learnInFlight(learned, 2_000, false, 300)
    expect(learned.limit).toBe(4)
  })
  test('stay within their bounds, whatever is seen', () => {
    const windows = fc.array(fc.record({ meanMs: fc.double({ min: 0, max: 1e6, noNaN: true }), busy: fc.boolean() }))
    fc.assert(
      fc.property(fc.integer({ min: 1, max: 5_000 }), windows, (ceiling, all) => {
        let learned = startInFlight(ceiling)
        for (const { meanMs, busy } of all) {
          learned = learnInFlight(learned, meanMs, busy, ceiling)
          expect(learned.limit).toBeGreaterThanOrEqual(1)
          expect(learned.limit).toBeLessThanOrEqual(ceiling)
        }
      }),
    )
  })
})
