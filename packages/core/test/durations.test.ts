import { describe, expect, test } from '@jest/globals'
import { durationClass, durationClasses, maxOfClassMs, quantileMs, stepsTaken, toldMs } from '@zbell/core'
import fc from 'fast-check'

const counted = (times: readonly number[]) => {
  const counts = new Map<number, number>()
  for (const ms of times) counts.set(durationClass(ms), (counts.get(durationClass(ms)) ?? 0) + 1)
  return counts
}

describe('classes of times', () => {
  test('a time is never more than its class says, and more than the class below', () => {
    fc.assert(
      fc.property(fc.double({ min: 0, max: 2 ** 31, noNaN: true }), (ms) => {
        const found = durationClass(ms)
        expect(found).toBeLessThan(durationClasses)
        expect(ms).toBeLessThanOrEqual(Math.max(1, maxOfClassMs(found)) * (1 + 1e-9))
        if (found > 0) expect(ms).toBeGreaterThan(maxOfClassMs(found - 1) * (1 - 1e-9))
      }),
    )
  })

  test.each([
    [Number.NaN, 0],
    [-5, 0],
    [0, 0],
    [1, 0],
    [2, 2],
    [1_024, 20],
    [Number.POSITIVE_INFINITY, 63],
  ])('%d ms is of class %d', (ms, expected) => expect(durationClass(ms)).toBe(expected))

  test('a quantile of the classes is within a fifth of the true one', () => {
    const times = fc.array(fc.integer({ min: 2, max: 1_000_000 }), { minLength: 1, maxLength: 200 })
    fc.assert(
      fc.property(times, fc.constantFrom(0.5, 0.9, 0.99), (all, share) => {
        const exact = [...all].sort((a, b) => a - b)[Math.max(1, Math.ceil(all.length * share)) - 1]!
        const said = quantileMs(counted(all), share)!
        expect(said / exact).toBeGreaterThan(0.8)
        expect(said / exact).toBeLessThan(1.25)
      }),
    )
  })

  test.each([
    [13.454342644059434, 13.5],
    [0.04, 0],
    [107.63474115247547, 108],
  ])('%d ms is told as %d', (ms, told) => expect(toldMs(ms)).toBe(told))

  test('of nothing there is no quantile', () => expect(quantileMs(new Map(), 0.5)).toBeUndefined())
})

describe('what a device reports anew', () => {
  test('is timed from the nearest step before it', () => {
    const accepted = { accepted: 1_000 }
    expect(stepsTaken(accepted, { ...accepted, received: 1_040, shown: 1_050, opened: 9_050 }, 900)).toEqual([
      { state: 'received', durationMs: 40 },
      { state: 'shown', durationMs: 10 },
      { state: 'opened', durationMs: 8_000 },
    ])
  })

  test('counts once, and never as less than nothing', () => {
    const known = { accepted: 1_000, received: 1_040 }
    expect(stepsTaken(known, { ...known, opened: 1_010 }, 900)).toEqual([{ state: 'opened', durationMs: 0 }])
    expect(stepsTaken({}, { received: 950 }, 900)).toEqual([{ state: 'received', durationMs: 50 }])
    expect(stepsTaken(known, known, 900)).toEqual([])
  })
})
