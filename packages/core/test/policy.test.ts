import { describe, expect, test } from '@jest/globals'
import { instantOf } from '@zbell/core'
import {
  CapPage,
  capsFor,
  ownQuietFor,
  pageOfPerson,
  platformName,
  QuietClock,
  type QuietWindow,
  quietFor,
  quietSpreadSeconds,
  quietVerdict,
} from '@zbell/core/policy'
import fc from 'fast-check'

const night: QuietWindow = { from: '22:00', to: '07:00', then: 'wait' }
const at = (local: string, zone = 'Europe/Oslo') => instantOf(local, zone)
const iso = (ms: number) => new Date(ms).toISOString()
const verdict = (windows: readonly QuietWindow[], local: string, zone = 'Europe/Oslo') => {
  const found = quietVerdict(windows, zone, at(local, zone))
  return found.is === 'wait' ? iso(found.untilMs) : found.is
}

describe('quiet hours', () => {
  test.each([
    ['just before they begin', '2026-11-27T21:59', 'open'],
    ['from their first minute', '2026-11-27T22:00', '2026-11-28T06:00:00.000Z'],
    ['over midnight', '2026-11-28T03:00', '2026-11-28T06:00:00.000Z'],
    ['to the minute of their end', '2026-11-28T06:59:59', '2026-11-28T06:00:00.000Z'],
    ['and not in it', '2026-11-28T07:00', 'open'],
  ])('hold by the reader’s clock, %s', (_says, local, expected) => {
    expect(verdict([night], local)).toBe(expected)
  })

  test('hold on the days on which they begin, the morning after included', () => {
    const weekend: QuietWindow = { ...night, days: ['FR', 'SA'] }
    // The 27th is a Friday.
    expect(verdict([weekend], '2026-11-26T23:00')).toBe('open')
    expect(verdict([weekend], '2026-11-27T23:00')).toBe('2026-11-28T06:00:00.000Z')
    expect(verdict([weekend], '2026-11-29T03:00')).toBe('2026-11-29T06:00:00.000Z')
    expect(verdict([weekend], '2026-11-29T23:00')).toBe('open')
  })

  test('of the same hour twice last the whole day', () => {
    expect(verdict([{ from: '00:00', to: '00:00', then: 'wait', days: ['SU'] }], '2026-11-29T12:00')).toBe(
      '2026-11-29T23:00:00.000Z',
    )
  })

  test('that follow each other are waited for together; the later end counts', () => {
    const noon: QuietWindow = { from: '07:00', to: '09:00', then: 'wait' }
    expect(verdict([night, noon], '2026-11-28T03:00')).toBe('2026-11-28T08:00:00.000Z')
    expect(verdict([night, { ...night, to: '08:30' }], '2026-11-28T03:00')).toBe('2026-11-28T07:30:00.000Z')
  })

  test('of which one leaves out are the stricter', () => {
    expect(verdict([night, { ...night, then: 'skip' }], '2026-11-28T03:00')).toBe('skip')
    expect(verdict([{ from: '07:00', to: '09:00', then: 'skip' }, night], '2026-11-28T03:00')).toBe(
      '2026-11-28T06:00:00.000Z',
    )
  })

  test('that never end are asked about again after some days', () => {
    const always: QuietWindow[] = [
      { from: '00:00', to: '12:00', then: 'wait' },
      { from: '12:00', to: '00:00', then: 'wait' },
    ]
    const found = quietVerdict(always, 'UTC', at('2026-11-28T03:00', 'UTC'))
    expect(found.is === 'wait' && found.untilMs - at('2026-11-28T03:00', 'UTC')).toBeGreaterThan(5 * 86_400_000)
  })

  test('end at a time that clocks skip as long after the gap as it lies in it', () => {
    const early: QuietWindow = { from: '22:00', to: '02:30', then: 'wait' }
    expect(verdict([early], '2027-03-28T01:00')).toBe('2027-03-28T01:30:00.000Z')
  })

  test('in any zone at any moment: what waits is open when the wait is over, and not before', () => {
    const clock = fc
      .integer({ min: 0, max: 95 })
      .map((n) => `${String(Math.floor(n / 4)).padStart(2, '0')}:${String((n % 4) * 15).padStart(2, '0')}`)
    const window = fc.record({
      from: clock,
      to: clock,
      then: fc.constant('wait' as const),
      days: fc.option(fc.subarray(['MO', 'TU', 'WE', 'TH', 'FR', 'SA', 'SU'] as const, { minLength: 1 }), {
        nil: undefined,
      }),
    })
    const zones = ['Europe/Oslo', 'Asia/Tokyo', 'America/St_Johns', 'Australia/Lord_Howe', 'Pacific/Apia', 'UTC']
    fc.assert(
      fc.property(
        window,
        fc.constantFrom(...zones),
        fc.integer({ min: 0, max: 3 * 365 * 96 }),
        (one, zone, quarter) => {
          const atMs = Date.UTC(2026, 0, 1) + quarter * 900_000
          const found = quietVerdict([one], zone, atMs)
          if (found.is !== 'wait') return found.is === 'open'
          const before = quietVerdict([one], zone, found.untilMs - 60_000)
          const after = quietVerdict([one], zone, found.untilMs)
          return (
            found.untilMs > atMs &&
            before.is === 'wait' &&
            (after.is === 'open' || one.from === one.to || one.days === undefined)
          )
        },
      ),
      { numRuns: 500 },
    )
  })

  const channel = { name: 'offers', quietHours: true, caps: true }
  const offer = { mode: 'show', urgency: 'normal', channel } as const
  test.each([
    ['what is not urgent', {}, offer, 1],
    ['nothing that is urgent', {}, { ...offer, urgency: 'high' }, 0],
    ['what is urgent, where the app says so', { belowUrgency: null }, { ...offer, urgency: 'high' }, 1],
    ['only what is less urgent than they say', { belowUrgency: 'normal' }, offer, 0],
    ['only the channels that they name', { channels: ['delays'] }, offer, 0],
    ['the channels that they name', { channels: ['offers'] }, offer, 1],
    ['nothing of no channel where they name some', { channels: ['offers'] }, { ...offer, channel: null }, 0],
    ['no channel that says they do not', {}, { ...offer, channel: { ...channel, quietHours: false } }, 0],
    ['no wake', { belowUrgency: null }, { ...offer, mode: 'wake' }, 0],
  ] as const)('hold for %s', (_says, more, notification, expected) => {
    expect(quietFor([{ ...night, ...more }], notification)).toHaveLength(expected)
  })

  test('of a person’s own hold whatever the channel says, but not for what is urgent', () => {
    const deaf = { ...offer, channel: { ...channel, quietHours: false } }
    expect(ownQuietFor([night], deaf)).toHaveLength(1)
    expect(ownQuietFor([night], { ...deaf, urgency: 'high' })).toHaveLength(0)
  })

  test('of the app and of a person hold together, by one answer for all who share a zone', () => {
    const clock = new QuietClock([night], at('2026-11-28T03:00'))
    expect(clock.verdict('Europe/Oslo')).toBe(clock.verdict('Europe/Oslo'))
    expect(clock.verdict('Europe/London')).toMatchObject({ is: 'wait' })
    expect(clock.verdict('Asia/Tokyo')).toMatchObject({ is: 'open' })
    expect(clock.verdict('Asia/Tokyo', [{ from: '11:00', to: '12:00', then: 'skip' }])).toMatchObject({ is: 'skip' })
  })

  test('end at once for a few, and over five minutes for many', () => {
    expect([1, 60, 3_000, 1_000_000].map(quietSpreadSeconds)).toEqual([0, 6, 300, 300])
  })
})

describe('a cap', () => {
  const cap = { name: 'offers', most: 2, hours: 24 }
  const hour = 3_600
  const now = 1_800_000_000

  test('lets so many come in so many hours, and counts one notification once', () => {
    const page = new CapPage(0)
    for (const [no, seconds, may] of [
      [1, now, true],
      [1, now, true],
      [2, now + hour, true],
      [3, now + hour, false],
      [2, now + hour, true],
      [3, now + 24 * hour, true],
      [4, now + 24 * hour, false],
    ] as const) {
      expect(page.mayCount(7, no, cap, seconds)).toBe(may)
      if (may) page.count(7, no, cap, seconds)
    }
    expect(page.mayCount(8, 3, cap, now)).toBe(true)
  })

  test('gives back what came to nothing', () => {
    const page = new CapPage(0)
    page.count(7, 1, cap, now)
    page.count(7, 2, cap, now)
    page.refund(7, 1)
    page.refund(7, 99)
    expect(page.usesOf(7, 0).map(({ notificationNo }) => notificationNo)).toEqual([2])
    expect(page.mayCount(7, 3, cap, now)).toBe(true)
  })

  test('keeps what counts through its packed form, for people and for devices of nobody, and drops what is too old', () => {
    fc.assert(
      fc.property(
        fc.array(
          fc.record({
            person: fc.integer({ min: -(2 ** 40), max: 2 ** 40 }),
            no: fc.integer({ min: 1, max: 2 ** 47 }),
            seconds: fc.integer({ min: now - 48 * hour, max: now }),
          }),
          { maxLength: 40 },
        ),
        (uses) => {
          for (const page of new Set(uses.map(({ person }) => pageOfPerson(person)))) {
            const own = uses.filter(({ person }) => pageOfPerson(person) === page)
            const kept = new CapPage(page)
            for (const { person, no, seconds } of own) kept.count(person, no, { ...cap, hours: 744 }, seconds)
            const again = new CapPage(page, kept.pack(now - 24 * hour))
            expect(again.changed).toBe(false)
            for (const { person } of own) expect(again.usesOf(person, 0)).toEqual(kept.usesOf(person, now - 24 * hour))
          }
        },
      ),
    )
  })

  test('holds for its channels and urgencies, and for no channel that says it does not', () => {
    const channel = { name: 'offers', quietHours: true, caps: true }
    const offer = { mode: 'show', urgency: 'normal', channel } as const
    expect(capsFor([{ ...cap, channels: ['offers'] }], offer)).toHaveLength(1)
    expect(capsFor([{ ...cap, channels: ['delays'] }], offer)).toHaveLength(0)
    expect(capsFor([{ ...cap, belowUrgency: 'normal' }], offer)).toHaveLength(0)
    expect(capsFor([cap], { ...offer, urgency: 'high' })).toHaveLength(1)
    expect(capsFor([cap], { ...offer, channel: { ...channel, caps: false } })).toHaveLength(0)
    expect(capsFor([cap], { ...offer, mode: 'wake' })).toHaveLength(0)
  })
})

test('a platform calls a channel by its own name where it has one', () => {
  const channel = { name: 'offers', names: { android: 'offers_v2' } }
  expect(platformName(channel, 'android')).toBe('offers_v2')
  expect(platformName(channel, 'ios')).toBe('offers')
})
