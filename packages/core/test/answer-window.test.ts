import { describe, expect, test } from '@jest/globals'
import { AnswerWindow, answeredOf, answerWindowMs, type Outcome, quantileMs } from '@zbell/core'
import fc from 'fast-check'

const startMs = 1_700_000_000_000
const kinds = ['accepted', 'busy', 'unavailable', 'token-gone', 'refused'] as const

describe('what a gateway has answered of late', () => {
  test('is counted by what it was, and by how long it took', () => {
    const window = new AnswerWindow()
    for (const durationMs of [10, 10, 400]) window.note('accepted', durationMs, startMs)
    window.note('busy', 5, startMs + 1_000)
    const { outcomes, durations } = window.read(startMs + 2_000)
    expect(Object.fromEntries(outcomes)).toEqual({ accepted: 3, busy: 1 })
    expect(quantileMs(durations, 0.5)).toBeCloseTo(10, -1)
    expect(quantileMs(durations, 1)).toBeGreaterThan(330)
  })

  test('forgets what is older than its window, a step at a time, and counts nothing twice', () => {
    const event = fc.record({ afterMs: fc.integer({ min: 0, max: 60_000 }), kind: fc.constantFrom(...kinds) })
    fc.assert(
      fc.property(fc.array(event, { maxLength: 200 }), fc.integer({ min: 0, max: 900_000 }), (events, laterMs) => {
        const window = new AnswerWindow()
        let atMs = startMs
        const noted: { atMs: number; kind: Outcome['is'] }[] = []
        for (const { afterMs, kind } of events) {
          atMs += afterMs
          window.note(kind, 1, atMs)
          noted.push({ atMs, kind })
        }
        const nowMs = atMs + laterMs
        const sum = [...window.read(nowMs).outcomes.values()].reduce((all, count) => all + count, 0)
        const within = (ms: number) => noted.filter((one) => one.atMs > nowMs - ms).length
        // Whole steps are kept: never less than the window without its first step, never more than the window.
        expect(sum).toBeGreaterThanOrEqual(within(answerWindowMs - 30_000))
        expect(sum).toBeLessThanOrEqual(within(answerWindowMs + 1))
      }),
    )
  })

  test('is nothing where nobody was asked', () => {
    const { outcomes, durations } = new AnswerWindow().read(startMs)
    expect([outcomes.size, durations.size]).toEqual([0, 0])
  })
})

describe('what is kept of an answer', () => {
  const kept = (status: number, body: string) => answeredOf({ status, headers: {}, body })

  test('is nothing but its status when it is good', () => {
    expect(kept(201, 'thank you')).toEqual({ status: 201, says: '' })
    expect(kept(200, '')).toBe(kept(200, 'the same object for all'))
  })

  test('is the beginning of a refusal, in one line', () => {
    expect(kept(400, '{\n  "why": "wrong-water"\n}')).toEqual({ status: 400, says: '{ "why": "wrong-water" }' })
    expect(kept(500, 'x'.repeat(10_000)).says).toHaveLength(200)
  })

  test('has nothing in it that a terminal or a page would act on', () => {
    fc.assert(
      fc.property(fc.string({ unit: 'binary', maxLength: 500 }), (body) => {
        const { says } = kept(418, body)
        expect(says).not.toMatch(/[\p{C}\n]/u)
        expect(says.length).toBeLessThanOrEqual(200)
      }),
    )
    expect(kept(400, 'a\u001b[31mb\u202ec\u0000d').says).toBe('a [31mb c d')
  })
})
