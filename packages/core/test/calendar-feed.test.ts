import { describe, expect, test } from '@jest/globals'
import { timesAfter, timingOf, type When } from '@zbell/core/calendar'
import { calendarFeed, type FeedEvent, feedLimits } from '@zbell/core/feed'
import ICAL from 'ical.js'

const nowMs = Date.parse('2026-11-23T12:00:00Z')

const firstTimes = (when: When, count: number): number[] => {
  const found: number[] = []
  for (const times of timesAfter(timingOf(when, nowMs), nowMs)) {
    found.push(...times)
    if (found.length >= count) break
  }
  return found.slice(0, count)
}

const event = (when: When, more: Partial<FeedEvent> = {}): FeedEvent => ({
  uid: 'evening.schedule.merrow-sound.production',
  summary: 'Your boat tomorrow',
  description: 'Kittiwake, berth 2; “quotes”, commas; and\na second line',
  when,
  changedMs: Date.parse('2026-11-01T08:00:00Z'),
  nextMs: firstTimes(when, 1)[0] ?? nowMs,
  paused: false,
  ...more,
})

const read = (text: string) => {
  const calendar = new ICAL.Component(ICAL.parse(text))
  for (const zone of calendar.getAllSubcomponents('vtimezone')) ICAL.TimezoneService.register(zone)
  return calendar
}

const feed = (...given: Parameters<typeof calendarFeed>): string => [...calendarFeed(...given)].join('')

/** The next times of the first event, as another implementation of RFC 5545 reads them. */
const readTimes = (text: string, count: number): number[] => {
  const iterator = new ICAL.Event(read(text).getFirstSubcomponent('vevent')!).iterator()
  const found: number[] = []
  for (let time = iterator.next(); time && found.length < count; time = iterator.next()) {
    const ms = time.toUnixTime() * 1_000
    if (ms > nowMs) found.push(ms)
  }
  return found
}

describe('the calendar of what is upcoming', () => {
  test.each<[string, When]>([
    ['every evening', { from: '2026-11-20T18:00', zone: 'Europe/Oslo', repeat: 'FREQ=DAILY' }],
    [
      'weekdays over a change of clocks',
      { from: '2026-01-01T06:30', zone: 'America/New_York', repeat: 'FREQ=WEEKLY;BYDAY=MO,TU,WE,TH,FR' },
    ],
    [
      'every other Monday, begun on another day',
      { from: '2026-11-04T09:00', zone: 'Europe/Oslo', repeat: 'FREQ=WEEKLY;INTERVAL=2;BYDAY=MO' },
    ],
    [
      'the last Friday of a month',
      { from: '2020-01-01T12:00', zone: 'Australia/Lord_Howe', repeat: 'FREQ=MONTHLY;BYDAY=-1FR' },
    ],
    ['so many times', { from: '2026-11-21T18:00', zone: 'Europe/Oslo', repeat: 'FREQ=DAILY;COUNT=9' }],
    [
      'until an evening of its zone',
      { from: '2026-11-21T18:00', zone: 'Asia/Tokyo', repeat: 'FREQ=DAILY;UNTIL=20261129T180000' },
    ],
    [
      'with times more and less',
      {
        from: '2026-11-20T18:00',
        zone: 'Europe/Oslo',
        repeat: 'FREQ=DAILY',
        also: ['2026-11-25T12:00'],
        except: ['2026-11-24T18:00'],
      },
    ],
    [
      'without all times of some days, and with a day more',
      {
        from: '2026-11-20T18:00',
        zone: 'Europe/Oslo',
        repeat: 'FREQ=WEEKLY;BYDAY=MO,TU,TH,FR;BYHOUR=7,18',
        also: ['2026-11-25'],
        except: ['2026-11-24', '2026-11-26', '2026-11-27T07:00'],
      },
    ],
    [
      'so many times, without a day',
      { from: '2026-11-21T18:00', zone: 'Europe/Oslo', repeat: 'FREQ=DAILY;COUNT=9', except: ['2026-11-26'] },
    ],
    ['leap days', { from: '2024-02-29T10:00', zone: 'UTC', repeat: 'FREQ=YEARLY' }],
  ])('says %s as it rings', (_says, when) => {
    const text = feed('Merrow Sound: upcoming', [event(when)], nowMs)
    const expected = firstTimes(when, 8)
    expect(readTimes(text, 8).map((ms) => new Date(ms).toISOString())).toEqual(
      expected.map((ms) => new Date(ms).toISOString()),
    )
  })

  test('says each parameter of a property once (RFC 5545 §3.2)', () => {
    const lines = feed(
      'Merrow Sound',
      [event({ from: '2026-11-20T18:00', zone: 'Europe/Oslo', repeat: 'FREQ=DAILY' })],
      nowMs,
    )
      .replaceAll('\r\n ', '')
      .split('\r\n')
    expect(lines).toContain('REFRESH-INTERVAL;VALUE=DURATION:PT15M')
    for (const line of lines) {
      const names = [...(/^[A-Z-]+((?:;[A-Z-]+=(?:"[^"]*"|[^;:]*))*):/.exec(line)?.[1] ?? '').matchAll(/;([A-Z-]+)=/g)]
      expect([line, new Set(names.map(([, name]) => name)).size]).toEqual([line, names.length])
    }
  })

  test('begins a recurrence with its first real time', () => {
    const when = { from: '2026-11-24T18:00', zone: 'Europe/Oslo', repeat: 'FREQ=WEEKLY;BYDAY=FR' }
    expect(feed('x', [event(when)], nowMs)).toContain('DTSTART;TZID=Europe/Oslo:20261127T180000\r\n')
  })

  test('leaves out what somebody skipped', () => {
    const when = { from: '2026-11-20T18:00', zone: 'Europe/Oslo', repeat: 'FREQ=DAILY' }
    const [first, second] = firstTimes(when, 2)
    const text = feed('x', [event(when, { nextMs: second! })], nowMs)
    expect(readTimes(text, 1)).toEqual([second])
    expect(text).toContain(`EXDATE;TZID=Europe/Oslo:20261123T180000`)
    expect(first).toBe(Date.parse('2026-11-23T17:00:00Z'))
  })

  test('has floating times for what rings by the clock of each reader', () => {
    const once = feed('x', [event({ local: '2026-11-27T07:30', zone: 'reader' })], nowMs)
    expect(once).toContain('DTSTART:20261127T073000\r\n')
    const daily = { from: '2026-11-23T07:30', zone: 'reader', repeat: 'FREQ=DAILY;UNTIL=20261201T073000' }
    const text = feed('x', [event(daily)], nowMs)
    expect(text).toContain('DTSTART:20261123T073000\r\n')
    expect(text).toContain('UNTIL=20261201T073000\r\n')
    expect(text).not.toContain('VTIMEZONE')
  })

  test('writes times that come every few minutes one by one', () => {
    const when = { from: '2026-11-23T12:00', zone: 'UTC', repeat: 'FREQ=MINUTELY;INTERVAL=30' }
    const events = read(feed('x', [event(when)], nowMs)).getAllSubcomponents('vevent')
    expect(events).toHaveLength(500)
    expect(new Set(events.map((one) => one.getFirstPropertyValue('uid'))).size).toBe(500)
  })

  test('keeps every letter of its texts, in lines of 75 octets at most', () => {
    const text = feed('Merrow Sound: upcoming', [event({ at: '2026-11-27T17:00:00Z' }, { paused: true })], nowMs)
    const [one] = read(text).getAllSubcomponents('vevent')
    expect(one?.getFirstPropertyValue('description')).toBe(event({ at: '2026-11-27T17:00:00Z' }).description)
    expect(one?.getFirstPropertyValue('summary')).toBe('Your boat tomorrow (paused)')
    expect(one?.getFirstPropertyValue('status')).toBe('TENTATIVE')
    for (const line of text.split('\r\n')) expect(Buffer.byteLength(line)).toBeLessThanOrEqual(75)
    expect(text.endsWith('END:VCALENDAR\r\n')).toBe(true)
  })
})

test('however many ring however often, a calendar has a ceiling, and is made in little parts', () => {
  const often: When = { from: '2026-11-20T18:00', zone: 'Europe/Oslo', repeat: 'FREQ=MINUTELY' }
  const many = Array.from({ length: 20 }, (_, n) => event(often, { uid: `e${n}`, description: 'x'.repeat(5_000) }))
  const parts = [...calendarFeed('x', many, nowMs)]
  const text = parts.join('')
  expect(text.length).toBeLessThan(feedLimits.chars + 2_000)
  expect(Math.max(...parts.map(({ length }) => length))).toBeLessThan(2_000)
  const events = read(text).getAllSubcomponents('vevent')
  expect(events.length).toBeGreaterThan(1_000)
  expect(events.length).toBeLessThanOrEqual(feedLimits.entries)
})
