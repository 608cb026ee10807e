import { describe, expect, test } from '@jest/globals'
import { resolveRetry } from '@zbell/core'
import fc from 'fast-check'
import { type Cause, planRetries, type Waiting } from '../src/engine/plan-retries.ts'
import type { BlockDevice } from '../src/engine/work.ts'

const waiting = (no: number, cause: Cause, more: Partial<Waiting> = {}): Waiting => ({
  device: { no, platform: 'ios' } as BlockDevice,
  cause,
  retryAfterMs: 0,
  ...more,
})
const given = { failuresBefore: 2, leftMs: 600_000, retry: resolveRetry(), chance: () => 0 }

describe('what waits', () => {
  test('for one cause comes back together, as late as the most patient answer asked', () => {
    const { retries } = planRetries(
      [waiting(9, 'gateway-busy', { retryAfterMs: 5_000 }), waiting(3, 'gateway-busy', { retryAfterMs: 90_000 })],
      given,
    )
    expect(retries).toMatchObject([{ devices: [3, 9], failures: 3, cause: 'gateway-busy' }])
    expect(retries[0]!.afterMs).toBeGreaterThanOrEqual(90_000)
  })
  test('for a gateway that rests counts no failure, and comes back when it may be asked', () => {
    const { retries } = planRetries(
      [waiting(1, 'gateway-unreachable'), waiting(2, 'gateway-unreachable', { retryAfterMs: 4_000, untried: true })],
      { ...given, chance: () => 0.5 },
    )
    expect(retries.map(({ devices, failures }) => [devices, failures])).toEqual([
      [[1], 3],
      [[2], 2],
    ])
    expect(retries[1]!.afterMs).toBe(4_500)
  })
  test('for a credential looks again within half a minute, however short its lifetime', () => {
    expect(planRetries([waiting(1, 'credential-rejected')], { ...given, leftMs: 10 })).toMatchObject({
      retries: [{ failures: 2, afterMs: 10 }],
      expired: [],
    })
  })
  test('is planned or expired, each device once, and nobody waits beyond the lifetime', () => {
    const causes: Cause[] = ['gateway-busy', 'gateway-unreachable', 'credential-rejected', 'internal-fault']
    const some = fc.uniqueArray(
      fc.record({
        no: fc.integer({ min: 1, max: 500 }),
        cause: fc.constantFrom(...causes),
        retryAfterMs: fc.nat(700_000),
      }),
      { selector: ({ no }) => no },
    )
    fc.assert(
      fc.property(some, fc.nat(600_000), (all, leftMs) => {
        const plan = planRetries(
          all.map(({ no, cause, retryAfterMs }) => waiting(no, cause, { retryAfterMs })),
          { ...given, leftMs },
        )
        const numbers = [
          ...plan.retries.flatMap(({ devices }) => devices),
          ...plan.expired.map(({ device }) => device.no),
        ]
        expect(numbers.sort((a, b) => a - b)).toEqual(all.map(({ no }) => no).sort((a, b) => a - b))
        for (const { afterMs } of plan.retries) expect(afterMs).toBeLessThanOrEqual(leftMs)
      }),
    )
  })
})
