import { describe, expect, test } from '@jest/globals'
import fc from 'fast-check'
import rrule from 'rrule'
import { Temporal } from 'temporal-polyfill'
import { inScope } from '../../../e2e/harness/scope.ts'
import { CalendarDays } from '../src/calendar/calendar-days.ts'
import { parseCalendarRule, ringTimes } from '../src/calendar/index.ts'
import { instantOf } from '../src/timing/local-time.ts'

const isLong = inScope({ default: false, all: false, long: true })
/** Of so many zones, and changes of their clocks, one is looked at; another each day. */
const oneOf = inScope({
  default: { zonesWithChanges: 20, changes: 15, zones: 600 },
  all: { zonesWithChanges: 1, changes: 61, zones: 150 },
  long: { zonesWithChanges: 1, changes: 1, zones: 1 },
})
const weekdays = ['MO', 'TU', 'WE', 'TH', 'FR', 'SA', 'SU'] as const

/** Some of a list, without an order. */
const some = (all: readonly (number | string)[], most = 4) =>
  fc
    .uniqueArray(fc.constantFrom(...all), { minLength: 1, maxLength: most })
    .map((list) => list.toSorted((a, b) => Number(a) - Number(b)).join(','))
const range = (from: number, to: number) => Array.from({ length: to - from + 1 }, (_, i) => from + i)
const signed = (to: number) => [...range(1, to), ...range(1, to).map((one) => -one)]
const maybe = (name: string, values: fc.Arbitrary<string>) =>
  fc.option(
    values.map((list) => `;${name}=${list}`),
    { nil: '', freq: 3 },
  )

/** Rules that come up now and then: of one that never does the other side would search to the year 9999. */
const randomRule = fc
  .constantFrom('DAILY', 'WEEKLY', 'MONTHLY', 'YEARLY')
  .chain((freq) =>
    fc
      .tuple(
        fc.constantFrom('', '', ';INTERVAL=2', ';INTERVAL=3', ';INTERVAL=5'),
        maybe('BYMONTH', some(range(1, 12), 6)),
        freq === 'WEEKLY' || freq === 'YEARLY' ? fc.constant('') : maybe('BYMONTHDAY', some(signed(28))),
        freq === 'YEARLY' ? maybe('BYYEARDAY', some(signed(365))) : fc.constant(''),
        maybe(
          'BYDAY',
          // The other side takes days with and without a number together for days that are both.
          freq === 'MONTHLY' || freq === 'YEARLY'
            ? fc.oneof(some(weekdays, 7), some(['1MO', '2TU', '-1FR', '-2SU', '3WE'], 3))
            : some(weekdays, 7),
        ),
        maybe('BYHOUR', some(range(0, 23), 3)),
        maybe('BYMINUTE', some(range(0, 59), 3)),
        fc.constantFrom('', '', ';BYSETPOS=1', ';BYSETPOS=-1'),
        fc.constantFrom('', ';WKST=SU', ';WKST=WE'),
      )
      .map((parts) => `FREQ=${freq}${parts.join('')}`),
  )
  .filter((text) => typeof parseCalendarRule(text) !== 'string')
  .filter((text) => !/BYYEARDAY/.test(text) || !/BYMONTH=|BYDAY|BYSETPOS/.test(text))

test('the days of random rules are those that another implementation finds', () => {
  fc.assert(
    fc.property(
      randomRule,
      fc.integer({ min: 0, max: 1_500 }),
      fc.integer({ min: 0, max: 900 }),
      (text, start, later) => {
        const startMs = Date.UTC(2023, 0, 1, 9, 30) + start * 86_400_000
        const [fromMs, toMs] = [startMs + later * 86_400_000, startMs + (later + 400) * 86_400_000]
        const rule = parseCalendarRule(text)
        if (typeof rule === 'string') throw new Error(rule)
        const own = new CalendarDays(rule, startMs).between(fromMs, toMs)
        const other = new rrule.RRule({ ...rrule.RRule.parseString(text), dtstart: new Date(startMs) })
        const times = other
          .between(new Date(fromMs), new Date(toMs - 1), true)
          .map((one) => one.getTime())
          .sort((a, b) => a - b)
        expect(own.map((ms) => new Date(ms).toISOString())).toEqual(times.map((ms) => new Date(ms).toISOString()))
      },
    ),
    { numRuns: inScope({ default: 60, all: 250, long: 5_000 }) },
  )
})

describe('local times of every zone', () => {
  const zones = Intl.supportedValuesOf('timeZone')

  test('are the instants that another implementation gives, around each change of a clock in 40 years', () => {
    // In a short run each zone is looked at around a few of its changes, others each time it is run on another date.
    const turn = Math.floor(Date.now() / 86_400_000)
    let looked = 0
    for (const [no, zone] of zones.entries()) {
      if ((no + turn) % oneOf.zonesWithChanges !== 0) continue
      const changes: number[] = []
      let at = Temporal.ZonedDateTime.from(`1997-01-01T00:00[${zone}]`)
      for (
        let next = at.getTimeZoneTransition('next');
        next && next.year < 2037;
        next = at.getTimeZoneTransition('next')
      ) {
        changes.push(next.epochMilliseconds)
        at = next
      }
      for (const [i, ms] of changes.entries()) {
        if ((i + no + turn) % oneOf.changes !== 0) continue
        for (let minutes = -120; minutes <= 120; minutes += 30) {
          const local = Temporal.Instant.fromEpochMilliseconds(ms)
            .toZonedDateTimeISO(zone)
            .toPlainDateTime()
            .add({ minutes })
          const text = local.toString({ smallestUnit: 'second' })
          const own = instantOf(text, zone)
          looked++
          expect([zone, text, own]).toEqual([
            zone,
            text,
            local.toZonedDateTime(zone, { disambiguation: 'compatible' }).epochMilliseconds,
          ])
        }
      }
    }
    expect(looked).toBeGreaterThan(inScope({ default: 200, all: 500, long: 500 }))
  })

  test('ring once a day, whatever the clocks do', () => {
    const turn = Math.floor(Date.now() / 86_400_000)
    for (const [no, zone] of zones.entries()) {
      if ((no + turn) % oneOf.zones !== 0) continue
      for (const time of isLong ? ['00:00', '00:30', '02:30', '23:59'] : ['00:30', '02:30']) {
        const rule = parseCalendarRule('FREQ=DAILY')
        if (typeof rule === 'string') throw new Error(rule)
        const from = `1997-01-01T${time}`
        const found: number[] = []
        for (const times of ringTimes({ from, rule, also: [], except: [] }, zone, instantOf(from, zone) - 1)) {
          found.push(...times)
          if (found.length > 14_600) break
        }
        const all = found.slice(0, 14_600)
        const dates = all.map((ms) =>
          Temporal.Instant.fromEpochMilliseconds(ms).toZonedDateTimeISO(zone).toPlainDate().toString(),
        )
        const twice = dates.filter((date, i) => date === dates[i - 1])
        // A day that a zone leaves out whole rings on the next, together with that one where both are at the same time.
        expect([zone, time, twice.length <= 1]).toEqual([zone, time, true])
        expect(all.every((ms, i) => i === 0 || ms > all[i - 1]!)).toBe(true)
        expect(new Set(dates).size).toBeGreaterThanOrEqual(14_599)
      }
    }
  })
})
