import { describe, expect, test } from '@jest/globals'
import { resolveRetry } from '@zbell/core'
import { OutcomeBuffer } from '../src/engine/outcome-buffer.ts'
import type { Outcomes } from '../src/engine/work.ts'
import { claimOf, device } from './scratch-block.ts'

function buffer(devices: number[], holds: () => boolean | Promise<boolean> = () => true) {
  const stored: Outcomes[] = []
  let nowMs = 1_000
  const outcomes = new OutcomeBuffer(
    claimOf(devices, { failures: 2 }),
    {
      storeOutcomes: async (_claim, given) => {
        stored.push({ ...given, remaining: [...given.remaining] })
        return holds()
      },
    },
    { storeEveryMs: 500, now: () => nowMs, chance: () => 0, retry: resolveRetry() },
  )
  return { outcomes, stored, pass: (ms: number) => (nowMs += ms) }
}
const settled = () => new Promise(setImmediate)
const accepted = { state: 'accepted' } as const

describe('outcomes of a block', () => {
  test('are stored after a while, with what is left, and the rest at the end', async () => {
    const { outcomes, stored, pass } = buffer([1, 2, 3])
    outcomes.end(device(1), accepted, 3)
    outcomes.storeSometimes()
    expect(stored).toEqual([])
    pass(501)
    outcomes.storeSometimes()
    await settled()
    expect(stored).toMatchObject([{ ended: [{ deviceNo: 1, attempts: 3, atMs: 1_000 }], remaining: [2, 3] }])
    outcomes.end(device(2), accepted, 3)
    outcomes.wait(device(3), 'gateway-busy')
    expect(await outcomes.storeRest(1e9)).toBe(true)
    expect(stored[1]).toMatchObject({ ended: [{ deviceNo: 2 }], remaining: [], putBack: true })
    expect(stored[1]?.retries).toMatchObject([{ devices: [3], failures: 3, cause: 'gateway-busy' }])
  })

  test('give back those of whom nothing is known', async () => {
    const { outcomes, stored } = buffer([1, 2, 3])
    outcomes.end(device(2), accepted, 1)
    await outcomes.storeRest(1e9)
    expect(stored[0]?.remaining).toEqual([1, 3])
  })

  test('end what would wait beyond its lifetime', async () => {
    const { outcomes, stored } = buffer([1])
    outcomes.wait(device(1), 'gateway-unreachable', 60_000)
    await outcomes.storeRest(1_500)
    expect(stored[0]).toMatchObject({ ended: [{ state: 'expired', reason: 'gateway-unreachable' }], retries: [] })
  })

  test('are not stored any more once the lease is lost', async () => {
    const { outcomes, stored, pass } = buffer([1, 2], () => false)
    outcomes.end(device(1), accepted, 1)
    pass(501)
    outcomes.storeSometimes()
    await settled()
    expect(outcomes.holding).toBe(false)
    expect(await outcomes.storeRest(1e9)).toBe(false)
    expect(stored).toHaveLength(1)
  })

  test('that could not be stored on the way are the end of the block for this process', async () => {
    const { outcomes, pass } = buffer([1, 2], () => Promise.reject(new Error('away')))
    outcomes.end(device(1), accepted, 1)
    pass(501)
    outcomes.storeSometimes()
    await settled()
    expect(outcomes.holding).toBe(false)
  })
})
