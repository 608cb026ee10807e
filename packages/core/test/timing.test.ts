import { describe, expect, test } from '@jest/globals'
import fc from 'fast-check'
import {
  duePlans,
  frontAnswers,
  instantOf,
  isVisible,
  type KeptPlan,
  keepPlan,
  localAt,
  localFields,
  metresBetween,
  nextOccurrence,
  type Plan,
  parseRecurrence,
  permissions,
  planFault,
  presentationOf,
  type Recurrence,
} from '../src/index.ts'

const iso = (ms: number | undefined) => (ms === undefined ? undefined : new Date(ms).toISOString())
const zones = [
  'UTC',
  'Europe/Oslo',
  'Atlantic/Faroe',
  'America/New_York',
  'Asia/Kolkata',
  'Australia/Lord_Howe',
  'Pacific/Apia',
]

describe('local time', () => {
  test.each([
    ['2026-11-23T07:30', 'Europe/Oslo', '2026-11-23T06:30:00.000Z'],
    ['2026-07-01T07:30:15', 'Europe/Oslo', '2026-07-01T05:30:15.000Z'],
    // Clocks are put forward from 02:00 to 03:00: as long after the gap as it would have been into it.
    ['2026-03-29T02:30', 'Europe/Oslo', '2026-03-29T01:30:00.000Z'],
    // Clocks are put back from 03:00 to 02:00: the first of the two.
    ['2026-10-25T02:30', 'Europe/Oslo', '2026-10-25T00:30:00.000Z'],
    ['2026-03-08T02:30', 'America/New_York', '2026-03-08T07:30:00.000Z'],
    ['2026-01-01T00:00', 'Asia/Kolkata', '2025-12-31T18:30:00.000Z'],
  ])('%s in %s is %s', (local, zone, instant) => expect(iso(instantOf(local, zone))).toBe(instant))

  test('a clock shows at the instant what was asked for, unless it never shows that', () => {
    const minutes = fc.integer({ min: Date.UTC(2020, 0) / 60_000, max: Date.UTC(2035, 0) / 60_000 })
    fc.assert(
      fc.property(minutes, fc.constantFrom(...zones), (minute, zone) => {
        const shown = localAt(minute * 60_000, zone)
        const back = instantOf(shown, zone)
        expect(localAt(back, zone)).toEqual(shown)
        // In the hour that comes twice it is the first.
        expect(back).toBeLessThanOrEqual(minute * 60_000)
      }),
    )
  })

  test('a clock shows what Intl says, in every zone and year', () => {
    const all = Intl.supportedValuesOf('timeZone')
    const second = fc.integer({ min: Date.UTC(1890, 0) / 1_000, max: Date.UTC(2199, 0) / 1_000 })
    fc.assert(
      fc.property(second, fc.constantFrom(...all), (at, zone) => {
        const { year, month, day, hour, minute, second } = localAt(at * 1_000, zone)
        const options = { timeZone: zone, dateStyle: 'short', timeStyle: 'medium', hourCycle: 'h23' } as const
        const shown = new Intl.DateTimeFormat('en-US-u-ca-iso8601', options).formatToParts(at * 1_000)
        const said = shown.filter(({ type }) => type !== 'literal' && type !== 'era').map(({ value }) => Number(value))
        expect(said.sort()).toEqual([year, month, day, hour, minute, second].sort())
      }),
      { numRuns: 2_000 },
    )
  })

  test.each(['2026-02-30T10:00', '2026-13-01T10:00', '2026-01-01T25:00', '2026-01-01', '', '2026-1-1T1:1'])(
    '%p is no local time',
    (text) => expect(localFields(text)).toBeUndefined(),
  )
})

describe('recurrence', () => {
  const rule = (text: string): Recurrence => {
    const read = parseRecurrence(text)
    if (typeof read === 'string') throw new Error(read)
    return read
  }
  const series = (from: string, text: string, count: number, zone = 'Europe/Oslo') => {
    const all: (string | undefined)[] = []
    for (let after = 0; all.length < count; ) {
      const next = nextOccurrence(from, rule(text), zone, after)
      all.push(iso(next))
      if (next === undefined) break
      after = next
    }
    return all
  }

  test('keeps its local time when clocks change', () => {
    expect(series('2026-03-27T07:30', 'FREQ=DAILY', 4)).toEqual([
      '2026-03-27T06:30:00.000Z',
      '2026-03-28T06:30:00.000Z',
      '2026-03-29T05:30:00.000Z',
      '2026-03-30T05:30:00.000Z',
    ])
  })
  test('on working days', () => {
    const days = series('2026-11-20T07:30', 'FREQ=WEEKLY;BYDAY=MO,TU,WE,TH,FR', 3).map((at) => at?.slice(0, 10))
    expect(days).toEqual(['2026-11-20', '2026-11-23', '2026-11-24'])
  })
  test('every second week, counted from Monday', () => {
    const days = series('2026-11-25T07:30', 'FREQ=WEEKLY;INTERVAL=2;BYDAY=MO,WE', 3).map((at) => at?.slice(0, 10))
    expect(days).toEqual(['2026-11-25', '2026-12-07', '2026-12-09'])
  })
  test('on the last day of a month that has it', () => {
    const days = series('2026-01-31T12:00', 'FREQ=MONTHLY', 3).map((at) => at?.slice(0, 10))
    expect(days).toEqual(['2026-01-31', '2026-03-31', '2026-05-31'])
  })
  test('ends after so many, or at a time', () => {
    expect(series('2026-01-01T12:00', 'FREQ=DAILY;COUNT=2', 5)).toHaveLength(3)
    expect(series('2026-01-01T12:00', 'FREQ=DAILY;UNTIL=20260103', 9).at(-1)).toBeUndefined()
    expect(series('2026-01-01T12:00', 'FREQ=DAILY;UNTIL=20260103', 9)).toHaveLength(4)
  })
  test('whatever the rule, each time is later than the one before and at its own local time', () => {
    const texts = fc.constantFrom(
      'FREQ=DAILY',
      'FREQ=DAILY;INTERVAL=3',
      'FREQ=WEEKLY;BYDAY=SU,WE',
      'FREQ=MONTHLY;BYMONTHDAY=1,15',
    )
    fc.assert(
      fc.property(texts, fc.constantFrom(...zones), fc.integer({ min: 3, max: 23 }), (text, zone, hour) => {
        const all = series(`2026-02-20T${String(hour).padStart(2, '0')}:10`, text, 12, zone)
        expect([...all].sort()).toEqual(all)
        for (const at of all) expect(localAt(Date.parse(at!), zone)).toMatchObject({ hour, minute: 10 })
      }),
      { numRuns: 60 },
    )
  })
  test.each([
    ['', /is not a name and a value/],
    ['FREQ=HOURLY', /FREQ wants/],
    ['FREQ=DAILY;FREQ=DAILY', /twice/],
    ['FREQ=DAILY;BYDAY=XX', /BYDAY wants/],
    ['FREQ=DAILY;BYSETPOS=1', /BYSETPOS is not known/],
    ['FREQ=DAILY;COUNT=2;UNTIL=20260101', /do not go together/],
    ['FREQ=MONTHLY;BYDAY=MO', /belongs to DAILY and WEEKLY/],
    ['FREQ=DAILY;INTERVAL=0', /INTERVAL wants/],
    ['FREQ=DAILY;UNTIL=tomorrow', /UNTIL wants/],
    ['FREQ=MONTHLY;BYMONTHDAY=32', /BYMONTHDAY wants/],
  ])('%p is refused in words', (text, says) => expect(parseRecurrence(text)).toMatch(says))
})

describe('plans', () => {
  const nowMs = Date.parse('2026-11-23T12:00:00Z')
  const content = { title: 'Time to walk to the pier' }
  const keep = (when: Plan['when']) => keepPlan({ name: 'walk', when, content }, nowMs, 'UTC')
  const due = (plans: readonly KeptPlan[], atMs: number, place?: { longitude: number; latitude: number }) =>
    duePlans(plans, atMs, 'UTC', place)

  test('after so long it rings once', () => {
    const plan = keep({ afterSeconds: 60 })
    expect(due([plan], nowMs + 59_999)).toEqual({ rings: [], kept: [plan] })
    expect(due([plan], nowMs + 60_000)).toEqual({ rings: [plan], kept: [] })
  })
  test('a device that was off rings what it missed within the hour, and nothing older', () => {
    const plan = keep({ local: '2026-11-23T13:00' })
    expect(due([plan], nowMs + 2 * 3_600_000).rings).toEqual([plan])
    expect(due([plan], nowMs + 2 * 3_600_000 + 1)).toEqual({ rings: [], kept: [] })
  })
  test('an instant, the device’s own clock and that of a zone are three things', () => {
    const ringsAt = (when: Plan['when']) =>
      iso(keepPlan({ name: 'walk', when, content }, nowMs, 'Asia/Tokyo').ringsAtMs)
    expect(ringsAt({ at: '2026-11-23T13:00:00+01:00' })).toBe('2026-11-23T12:00:00.000Z')
    expect(ringsAt({ local: '2026-11-24T07:30' })).toBe('2026-11-23T22:30:00.000Z')
    expect(ringsAt({ local: '2026-11-24T07:30', zone: 'reader' })).toBe('2026-11-23T22:30:00.000Z')
    expect(ringsAt({ local: '2026-11-24T07:30', zone: 'Europe/Oslo' })).toBe('2026-11-24T06:30:00.000Z')
    expect(ringsAt({ from: '2026-11-23T07:30', repeat: 'FREQ=DAILY', zone: 'Europe/Oslo' })).toBe(
      '2026-11-24T06:30:00.000Z',
    )
  })
  test('by recurrence it rings and goes on', () => {
    const plan = keep({ from: '2026-11-23T13:00', repeat: 'FREQ=DAILY' })
    const { rings, kept } = due([plan], nowMs + 3_600_000)
    expect(rings).toEqual([plan])
    expect(iso(kept[0]?.ringsAtMs)).toBe('2026-11-24T13:00:00.000Z')
  })
  test('at a place it rings when the device crosses the edge, not where it begins', () => {
    const pier = { longitude: 5.32, latitude: 60.39 }
    const far = { longitude: 5.4, latitude: 60.39 }
    const plan = keep({ place: pier, metres: 300, on: 'enter' })
    const looks = [far, pier, pier, far, undefined, pier]
    let plans: readonly KeptPlan[] = [plan]
    const rang = looks.map((at) => {
      const { rings, kept } = due(plans, nowMs, at)
      plans = kept
      return rings.length
    })
    expect(rang).toEqual([0, 1, 0, 0, 0, 1])
    expect(metresBetween(pier, far)).toBeGreaterThan(4_000)
  })
  test.each<[Plan, RegExp]>([
    [{ name: 'two words', when: { afterSeconds: 1 }, content }, /name has/],
    [{ name: 'a', when: { afterSeconds: -1 }, content }, /0 or more/],
    [{ name: 'a', when: { at: '2026-11-23T13:00' }, content }, /not an instant/],
    [{ name: 'a', when: { local: 'tomorrow' }, content }, /not a local time/],
    [{ name: 'a', when: { local: '2026-11-23T13:00', zone: 'Nowhere/Else' }, content }, /neither an IANA time zone/],
    [{ name: 'a', when: { from: '2026-11-23T13:00', repeat: 'FREQ=YEARLY' }, content }, /FREQ wants/],
    [{ name: 'a', when: { place: { longitude: 0, latitude: 0 }, metres: 1, on: 'leave' }, content }, /metres wants/],
    [{ name: 'a', when: { afterSeconds: 1 }, content: { title: '' } }, /wants a title/],
  ])('%j cannot be kept', (plan, says) => {
    expect(planFault(plan)).toMatch(says)
    expect(() => keepPlan(plan, nowMs, 'UTC')).toThrow(says)
  })
})

describe('what a device does with what arrives', () => {
  test.each([
    ['wake', 'granted', 'front', false, 'drop', 'woken'],
    ['wake', 'denied', 'closed', true, 'show', 'woken'],
    ['show', 'granted', 'front', false, 'show', 'shown'],
    ['show', 'granted', 'front', false, 'replace', 'replaced'],
    ['show', 'granted', 'front', true, 'drop', 'dropped'],
    ['show', 'denied', 'front', false, 'replace', 'replaced'],
    ['show', 'denied', 'front', false, 'show', 'not-allowed'],
    ['show', 'prompt', 'behind', false, 'show', 'not-allowed'],
    ['show', 'granted', 'behind', false, 'drop', 'shown'],
    ['show', 'granted', 'closed', true, 'show', 'silenced'],
  ] as const)(
    '%s, %s, %s, quiet %p, the app says %s: %s',
    (mode, permission, appState, doNotDisturb, answer, became) => {
      expect(presentationOf({ mode, permission, appState, doNotDisturb, answer })).toBe(became)
    },
  )
  test('without permission the system shows nothing, whatever the rest', () => {
    fc.assert(
      fc.property(
        fc.constantFrom(...permissions),
        fc.constantFrom('front' as const, 'behind' as const, 'closed' as const),
        fc.boolean(),
        fc.constantFrom(...frontAnswers),
        (permission, appState, doNotDisturb, answer) => {
          const became = presentationOf({ mode: 'show', permission, appState, doNotDisturb, answer })
          if (permission !== 'granted') expect(became === 'shown' || became === 'silenced').toBe(false)
          expect(isVisible(became)).toBe(!['woken', 'dropped', 'not-allowed'].includes(became))
        },
      ),
    )
  })
})
