import { describe, expect, test } from '@jest/globals'
import fc from 'fast-check'
import {
  afterReceipt,
  type DeliveryRecord,
  type DeliveryState,
  deliveryStateNames,
  deliveryStateOfCode,
  deliveryStates,
  type ReceiptState,
  receiptStates,
  timelineOf,
  withReceipt,
} from '../src/index.ts'

const receipt = fc.constantFrom(...receiptStates)
const stays: readonly DeliveryState[] = ['skipped', 'refused', 'withdrawn']
const at = 1_000

describe('delivery states', () => {
  test('every state keeps its code for good', () => {
    for (const name of deliveryStateNames) expect(deliveryStateOfCode(deliveryStates[name])).toBe(name)
    expect(() => deliveryStateOfCode(99)).toThrow(RangeError)
  })

  test.each(stays)('a delivery that was %s stays so, whatever a device claims', (state) => {
    for (const claimed of receiptStates) expect(afterReceipt(state, claimed)).toBe(state)
  })

  test('one that was withdrawn after it was accepted keeps what the device showed', () => {
    const record: DeliveryRecord = { state: 'withdrawn', moments: { accepted: 0, withdrawn: 5 } }
    expect(withReceipt(record, 'shown', at)).toEqual({
      state: 'withdrawn',
      moments: { accepted: 0, withdrawn: 5, shown: at },
    })
    const never: DeliveryRecord = { state: 'withdrawn', moments: { withdrawn: 5 } }
    expect(withReceipt(never, 'shown', at)).toBe(never)
  })

  test('a receipt proves that an expired delivery arrived after all', () => {
    expect(afterReceipt('expired', 'shown')).toBe('shown')
  })

  test('the whole table of receipts', () => {
    const road = ['queued', 'accepted', 'received', 'shown', 'dismissed', 'opened'] as const
    for (const [i, from] of road.entries()) {
      for (const to of receiptStates) expect(afterReceipt(from, to)).toBe(road.indexOf(to) > i ? to : from)
    }
  })

  test('receipts in any order, late and twice, come to the same end', () => {
    fc.assert(
      fc.property(fc.array(receipt, { minLength: 1 }), fc.array(fc.nat()), (receipts, order) => {
        const start: DeliveryRecord = { state: 'accepted', moments: { accepted: 0 } }
        const play = (list: readonly ReceiptState[]) =>
          list.reduce((record, one) => withReceipt(record, one, at), start)
        const shuffled = [...receipts, ...receipts].map((one, i) => ({
          one,
          key: order[i % Math.max(order.length, 1)] ?? 0,
        }))
        shuffled.sort((a, b) => a.key - b.key)
        expect(play(shuffled.map(({ one }) => one))).toEqual(play(receipts))
      }),
    )
  })

  test('a receipt that changes nothing gives the very same record back', () => {
    const record = withReceipt({ state: 'accepted', moments: {} }, 'shown', at)
    expect(withReceipt(record, 'shown', at + 1)).toBe(record)
  })

  test('a timeline runs along the road and never backwards in time', () => {
    const moments = fc.dictionary(fc.constantFrom('accepted', 'received', 'shown', 'opened'), fc.nat(1_000))
    fc.assert(
      fc.property(fc.nat(1_000), moments, (queuedMs, given) => {
        const steps = timelineOf(queuedMs, given)
        for (const [i, step] of steps.entries()) {
          if (i === 0) continue
          expect(step.atMs).toBeGreaterThanOrEqual(steps[i - 1]!.atMs)
          expect(deliveryStates[step.state]).toBeGreaterThan(deliveryStates[steps[i - 1]!.state])
        }
        expect(steps).toHaveLength(Object.keys(given).length + 1)
        // What a clock said otherwise is not lost.
        for (const { state, atMs, notedMs } of steps)
          expect(notedMs ?? atMs).toBe(state === 'queued' ? queuedMs : given[state as 'shown'])
      }),
    )
  })
})
