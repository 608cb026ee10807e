import { describe, expect, test } from '@jest/globals'
import {
  firstZone,
  lastZone,
  readerDue,
  readersEnd,
  readersTurn,
  timesAfter,
  timingOf,
  whenFaults,
} from '../src/calendar/index.ts'
import { instantOf } from '../src/timing/local-time.ts'

const local = '2026-11-27T07:30'
const zones = ['Europe/Oslo', 'America/Los_Angeles', 'Asia/Tokyo', 'Asia/Kathmandu']
const hour = (past: 'skip' | 'now' | 'tomorrow', sent: string) => ({ local, past, sentMs: Date.parse(sent) })
const at = (text: string) => ({ nowMs: Date.parse(text), graceMs: 600_000 })

test('every zone lies between the first and the last', () => {
  const [first, last] = [instantOf(local, firstZone), instantOf(local, lastZone)]
  for (const zone of Intl.supportedValuesOf('timeZone')) {
    expect(instantOf(local, zone)).toBeGreaterThanOrEqual(first)
    expect(instantOf(local, zone)).toBeLessThanOrEqual(last)
  }
  expect(last - first).toBe(26 * 3_600_000)
})

describe('an hour by the clock of each reader', () => {
  test('rings in each zone at its own, and where it is over as was wished', () => {
    const sent = '2026-11-27T05:00:00Z'
    expect(readerDue(hour('skip', sent), 'Europe/Oslo')).toBe(Date.parse('2026-11-27T06:30:00Z'))
    // In Tokyo it was 07:30 six and a half hours ago.
    expect(readerDue(hour('skip', sent), 'Asia/Tokyo')).toBeUndefined()
    expect(readerDue(hour('now', sent), 'Asia/Tokyo')).toBe(Date.parse(sent))
    expect(readerDue(hour('tomorrow', sent), 'Asia/Tokyo')).toBe(Date.parse('2026-11-27T22:30:00Z'))
    expect(readersEnd(hour('skip', sent))).toBe(Date.parse('2026-11-27T19:30:00Z'))
    expect(readersEnd(hour('tomorrow', sent))).toBe(Date.parse('2026-11-28T19:30:00Z'))
  })

  test('has turns: who is due, and when it is somebody’s next', () => {
    const early = hour('skip', '2026-11-26T10:00:00Z')
    const before = readersTurn(early, zones, at('2026-11-26T22:00:00Z'))
    expect(before).toEqual({ due: [], nextMs: Date.parse('2026-11-26T22:30:00Z') })
    const tokyo = readersTurn(early, zones, at('2026-11-26T22:30:00Z'))
    expect(tokyo.due.map(({ zone }) => zone)).toEqual(['Asia/Tokyo'])
    // A zone that comes up meanwhile is looked for every hour.
    expect(tokyo.nextMs).toBe(Date.parse('2026-11-26T23:30:00Z'))
    // Whoever comes into a zone soon after its hour gets it; long after, nobody does.
    expect(readersTurn(early, zones, at('2026-11-26T23:30:00Z')).due.map(({ zone }) => zone)).toEqual(['Asia/Tokyo'])
    expect(readersTurn(early, zones, at('2026-11-27T01:00:00Z')).due).toEqual([])
    const last = readersTurn(early, zones, at('2026-11-27T19:30:00Z'))
    expect(last.nextMs).toBeUndefined()
  })

  test('is due for a schedule where the day begins first, and for one that is late where it still comes', () => {
    const when = { local, zone: 'reader' }
    const times = (nowMs: number, more: object = {}) =>
      [...timesAfter(timingOf({ ...when, ...more }, nowMs), nowMs - 1)].flat()
    expect(times(Date.parse('2026-11-26T00:00:00Z'))).toEqual([Date.parse('2026-11-26T17:30:00Z')])
    const noon = Date.parse('2026-11-27T12:00:00Z')
    expect(times(noon)).toEqual([noon])
    const over = Date.parse('2026-11-27T20:00:00Z')
    expect(times(over)).toEqual([])
    expect(times(over, { past: 'now' })).toEqual([over])
    expect(times(over, { past: 'tomorrow' })).toEqual([over])
  })

  test('wants past only with the zone reader', () => {
    expect(whenFaults({ local, zone: 'reader', past: 'now' })).toEqual([])
    expect(whenFaults({ local, zone: 'Europe/Oslo', past: 'now' })).toEqual([
      { at: 'past', says: 'belongs to the zone reader' },
    ])
  })
})
