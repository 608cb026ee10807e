import { expect, test } from '@jest/globals'
import { idleExceptions } from '../src/calendar/index.ts'

test('a schedule knows which of its exceptions leave out nothing', () => {
  const evenings = { from: '2026-11-20T18:00', zone: 'Europe/Oslo', repeat: 'FREQ=WEEKLY;BYDAY=MO' }
  const idle = (except: string[], more = {}) => idleExceptions({ ...evenings, except, ...more })
  expect(idle(['2026-11-23', '2026-11-30T18:00'])).toEqual([])
  expect(idle(['2026-11-16', '2026-11-24', '2026-11-23', '2026-11-30T17:00'])).toEqual([0, 1, 3])
  expect(idle(['2026-11-24'], { also: ['2026-11-24T07:00'] })).toEqual([])
  expect(idle(['2026-12-07', '2026-11-30'], { repeat: 'FREQ=WEEKLY;BYDAY=MO;COUNT=2' })).toEqual([0])
  // At an hour that the clocks skip it rings an hour later.
  const night = { from: '2026-03-28T02:30', repeat: 'FREQ=DAILY' }
  expect(idle(['2026-03-29T02:30', '2026-03-29', '2026-03-29T04:00'], night)).toEqual([2])
  expect(idleExceptions({ at: '2026-11-27T17:00:00Z' })).toEqual([])
})
