import { describe, expect, test } from '@jest/globals'
import { type CalendarRule, parseCalendarRule, type Recurring, ringTimes } from '../src/calendar/index.ts'
import { instantOf } from '../src/timing/local-time.ts'

const newYork = 'America/New_York'

const ruleOf = (text: string): CalendarRule => {
  const rule = parseCalendarRule(text)
  if (typeof rule === 'string') throw new Error(`${text}: ${rule}`)
  return rule
}

/** The first times of a rule, as a clock in its zone shows them. */
function first(
  count: number,
  from: string,
  text: string,
  more: Partial<Pick<Recurring, 'also' | 'except'>> & { zone?: string; afterMs?: number } = {},
): string[] {
  const { zone = newYork, afterMs = instantOf(from, zone) - 1, also = [], except = [] } = more
  const found: number[] = []
  for (const times of ringTimes({ from, rule: ruleOf(text), also, except }, zone, afterMs)) {
    found.push(...times)
    if (found.length >= count) break
  }
  return found.slice(0, count).map((ms) => new Date(ms).toLocaleString('sv', { timeZone: zone }).replace(' ', 'T'))
}

const nine = (...days: string[]) => days.map((day) => `${day}T09:00:00`)
/** `1997-09 2 4 9, 1997-10 1`: days of months. */
const days = (text: string) =>
  nine(
    ...text.split(', ').flatMap((part) => {
      const [month, ...all] = part.split(' ')
      return all.map((day) => `${month}-${day.padStart(2, '0')}`)
    }),
  )

describe('the examples of RFC 5545 §3.8.5.3', () => {
  const tuesday = '1997-09-02T09:00:00'
  test.each<[string, string, string[], string?]>([
    ['FREQ=DAILY;COUNT=10', 'daily for ten', days('1997-09 2 3 4 5 6 7 8 9 10 11')],
    [
      'FREQ=DAILY;INTERVAL=2',
      'every other day',
      days('1997-09 2 4 6 8 10 12 14 16 18 20 22 24 26 28 30, 1997-10 2 4 6'),
    ],
    ['FREQ=DAILY;INTERVAL=10;COUNT=5', 'every ten days', days('1997-09 2 12 22, 1997-10 2 12')],
    ['FREQ=WEEKLY;COUNT=10', 'weekly for ten', days('1997-09 2 9 16 23 30, 1997-10 7 14 21 28, 1997-11 4')],
    [
      'FREQ=WEEKLY;INTERVAL=2;WKST=SU',
      'every other week',
      days('1997-09 2 16 30, 1997-10 14 28, 1997-11 11 25, 1997-12 9 23, 1998-01 6 20, 1998-02 3 17'),
    ],
    [
      'FREQ=WEEKLY;UNTIL=19971007T000000Z;WKST=SU;BYDAY=TU,TH',
      'twice a week until an instant',
      days('1997-09 2 4 9 11 16 18 23 25 30, 1997-10 2'),
    ],
    [
      'FREQ=WEEKLY;COUNT=10;WKST=SU;BYDAY=TU,TH',
      'twice a week for ten',
      days('1997-09 2 4 9 11 16 18 23 25 30, 1997-10 2'),
    ],
    [
      'FREQ=WEEKLY;INTERVAL=2;UNTIL=19971224T000000Z;WKST=SU;BYDAY=MO,WE,FR',
      'every other week on three days',
      days('1997-09 1 3 5 15 17 19 29, 1997-10 1 3 13 15 17 27 29 31, 1997-11 10 12 14 24 26 28, 1997-12 8 10 12 22'),
      '1997-09-01T09:00:00',
    ],
    [
      'FREQ=WEEKLY;INTERVAL=2;COUNT=8;WKST=SU;BYDAY=TU,TH',
      'every other week on two days for eight',
      days('1997-09 2 4 16 18 30, 1997-10 2 14 16'),
    ],
    [
      'FREQ=MONTHLY;COUNT=10;BYDAY=1FR',
      'the first Friday',
      days(
        '1997-09 5, 1997-10 3, 1997-11 7, 1997-12 5, 1998-01 2, 1998-02 6, 1998-03 6, 1998-04 3, 1998-05 1, 1998-06 5',
      ),
      '1997-09-05T09:00:00',
    ],
    [
      'FREQ=MONTHLY;UNTIL=19971224T000000Z;BYDAY=1FR',
      'the first Friday until',
      days('1997-09 5, 1997-10 3, 1997-11 7, 1997-12 5'),
      '1997-09-05T09:00:00',
    ],
    [
      'FREQ=MONTHLY;INTERVAL=2;COUNT=10;BYDAY=1SU,-1SU',
      'the first and last Sunday',
      days('1997-09 7 28, 1997-11 2 30, 1998-01 4 25, 1998-03 1 29, 1998-05 3 31'),
      '1997-09-07T09:00:00',
    ],
    [
      'FREQ=MONTHLY;COUNT=6;BYDAY=-2MO',
      'the second to last Monday',
      days('1997-09 22, 1997-10 20, 1997-11 17, 1997-12 22, 1998-01 19, 1998-02 16'),
      '1997-09-22T09:00:00',
    ],
    [
      'FREQ=MONTHLY;BYMONTHDAY=-3',
      'the third to last day',
      days('1997-09 28, 1997-10 29, 1997-11 28, 1997-12 29, 1998-01 29, 1998-02 26'),
      '1997-09-28T09:00:00',
    ],
    [
      'FREQ=MONTHLY;COUNT=10;BYMONTHDAY=2,15',
      'the 2nd and 15th',
      days('1997-09 2 15, 1997-10 2 15, 1997-11 2 15, 1997-12 2 15, 1998-01 2 15'),
    ],
    [
      'FREQ=MONTHLY;COUNT=10;BYMONTHDAY=1,-1',
      'the first and last day',
      days('1997-09 30, 1997-10 1 31, 1997-11 1 30, 1997-12 1 31, 1998-01 1 31, 1998-02 1'),
      '1997-09-30T09:00:00',
    ],
    [
      'FREQ=MONTHLY;INTERVAL=18;COUNT=10;BYMONTHDAY=10,11,12,13,14,15',
      'every 18 months',
      days('1997-09 10 11 12 13 14 15, 1999-03 10 11 12 13'),
      '1997-09-10T09:00:00',
    ],
    [
      'FREQ=MONTHLY;INTERVAL=2;BYDAY=TU',
      'every Tuesday of every other month',
      days('1997-09 2 9 16 23 30, 1997-11 4 11 18 25, 1998-01 6 13 20 27, 1998-03 3 10 17 24 31'),
    ],
    [
      'FREQ=YEARLY;COUNT=10;BYMONTH=6,7',
      'June and July',
      days(
        '1997-06 10, 1997-07 10, 1998-06 10, 1998-07 10, 1999-06 10, 1999-07 10, 2000-06 10, 2000-07 10, 2001-06 10, 2001-07 10',
      ),
      '1997-06-10T09:00:00',
    ],
    [
      'FREQ=YEARLY;INTERVAL=2;COUNT=10;BYMONTH=1,2,3',
      'every other year in three months',
      days(
        '1997-03 10, 1999-01 10, 1999-02 10, 1999-03 10, 2001-01 10, 2001-02 10, 2001-03 10, 2003-01 10, 2003-02 10, 2003-03 10',
      ),
      '1997-03-10T09:00:00',
    ],
    [
      'FREQ=YEARLY;INTERVAL=3;COUNT=10;BYYEARDAY=1,100,200',
      'days of every third year',
      days(
        '1997-01 1, 1997-04 10, 1997-07 19, 2000-01 1, 2000-04 9, 2000-07 18, 2003-01 1, 2003-04 10, 2003-07 19, 2006-01 1',
      ),
      '1997-01-01T09:00:00',
    ],
    [
      'FREQ=YEARLY;BYDAY=20MO',
      'the 20th Monday of the year',
      days('1997-05 19, 1998-05 18, 1999-05 17'),
      '1997-05-19T09:00:00',
    ],
    [
      'FREQ=YEARLY;BYWEEKNO=20;BYDAY=MO',
      'the Monday of week 20',
      days('1997-05 12, 1998-05 11, 1999-05 17'),
      '1997-05-12T09:00:00',
    ],
    [
      'FREQ=YEARLY;BYMONTH=3;BYDAY=TH',
      'Thursdays in March',
      days('1997-03 13 20 27, 1998-03 5 12 19 26, 1999-03 4 11 18 25'),
      '1997-03-13T09:00:00',
    ],
    [
      'FREQ=YEARLY;BYDAY=TH;BYMONTH=6,7,8',
      'Thursdays in summer',
      days('1997-06 5 12 19 26, 1997-07 3 10 17 24 31, 1997-08 7 14 21 28, 1998-06 4 11'),
      '1997-06-05T09:00:00',
    ],
    [
      'FREQ=MONTHLY;BYDAY=FR;BYMONTHDAY=13',
      'Friday the 13th',
      days('1998-02 13, 1998-03 13, 1998-11 13, 1999-08 13, 2000-10 13'),
    ],
    [
      'FREQ=MONTHLY;BYDAY=SA;BYMONTHDAY=7,8,9,10,11,12,13',
      'the first Saturday after the first Sunday',
      days('1997-09 13, 1997-10 11, 1997-11 8, 1997-12 13, 1998-01 10, 1998-02 7'),
      '1997-09-13T09:00:00',
    ],
    [
      'FREQ=YEARLY;INTERVAL=4;BYMONTH=11;BYDAY=TU;BYMONTHDAY=2,3,4,5,6,7,8',
      'the first Tuesday after a Monday in November',
      days('1996-11 5, 2000-11 7, 2004-11 2'),
      '1996-11-05T09:00:00',
    ],
    [
      'FREQ=MONTHLY;COUNT=3;BYDAY=TU,WE,TH;BYSETPOS=3',
      'the third of three weekdays',
      days('1997-09 4, 1997-10 7, 1997-11 6'),
      '1997-09-04T09:00:00',
    ],
    [
      'FREQ=MONTHLY;BYDAY=MO,TU,WE,TH,FR;BYSETPOS=-2',
      'the second to last weekday',
      days('1997-09 29, 1997-10 30, 1997-11 27, 1997-12 30, 1998-01 29, 1998-02 26, 1998-03 30'),
      '1997-09-29T09:00:00',
    ],
    [
      'FREQ=WEEKLY;INTERVAL=2;COUNT=4;BYDAY=TU,SU;WKST=MO',
      'weeks that begin on Monday',
      days('1997-08 5 10 19 24'),
      '1997-08-05T09:00:00',
    ],
    [
      'FREQ=WEEKLY;INTERVAL=2;COUNT=4;BYDAY=TU,SU;WKST=SU',
      'weeks that begin on Sunday',
      days('1997-08 5 17 19 31'),
      '1997-08-05T09:00:00',
    ],
    [
      'FREQ=MONTHLY;BYMONTHDAY=15,30;COUNT=5',
      'a day that February has not',
      days('2007-01 15 30, 2007-02 15, 2007-03 15 30'),
      '2007-01-15T09:00:00',
    ],
  ])('%s: %s', (rule, _says, expected, from = tuesday) => {
    expect(first(expected.length, from, rule)).toEqual(expected)
    if (/COUNT|UNTIL/.test(rule)) expect(first(expected.length + 1, from, rule)).toEqual(expected)
  })

  test('every day until Christmas Eve, and in January for three years', () => {
    const all = first(1_000, tuesday, 'FREQ=DAILY;UNTIL=19971224T000000Z')
    expect([all.length, all.at(-1)]).toEqual([113, '1997-12-23T09:00:00'])
    const january = first(
      1_000,
      '1998-01-01T09:00:00',
      'FREQ=YEARLY;UNTIL=20000131T140000Z;BYMONTH=1;BYDAY=SU,MO,TU,WE,TH,FR,SA',
    )
    expect([january.length, january[31], january.at(-1)]).toEqual([93, '1999-01-01T09:00:00', '2000-01-31T09:00:00'])
    expect(first(1_000, '1998-01-01T09:00:00', 'FREQ=DAILY;UNTIL=20000131T140000Z;BYMONTH=1')).toEqual(january)
  })

  test('by hours and minutes', () => {
    const at = (...times: string[]) => times.map((time) => `1997-09-02T${time}:00`)
    expect(first(9, tuesday, 'FREQ=HOURLY;INTERVAL=3;UNTIL=19970902T210000Z')).toEqual(at('09:00', '12:00', '15:00'))
    expect(first(9, tuesday, 'FREQ=MINUTELY;INTERVAL=15;COUNT=6')).toEqual(
      at('09:00', '09:15', '09:30', '09:45', '10:00', '10:15'),
    )
    expect(first(9, tuesday, 'FREQ=MINUTELY;INTERVAL=90;COUNT=4')).toEqual(at('09:00', '10:30', '12:00', '13:30'))
    const everyTwenty = first(49, tuesday, 'FREQ=DAILY;BYHOUR=9,10,11,12,13,14,15,16;BYMINUTE=0,20,40')
    expect([everyTwenty[1], everyTwenty[23], everyTwenty[24]]).toEqual([
      '1997-09-02T09:20:00',
      '1997-09-02T16:40:00',
      '1997-09-03T09:00:00',
    ])
    expect(first(49, tuesday, 'FREQ=MINUTELY;INTERVAL=20;BYHOUR=9,10,11,12,13,14,15,16')).toEqual(everyTwenty)
  })
})

describe('a recurrence', () => {
  test('begins with what the rule names, not with its start', () => {
    expect(first(2, '2026-11-24T18:00', 'FREQ=WEEKLY;BYDAY=MO')).toEqual(['2026-11-30T18:00:00', '2026-12-07T18:00:00'])
  })

  test('takes further times and leaves times out, and two at one instant ring once', () => {
    const more = { also: ['2026-11-25T07:00', '2026-11-24T18:00'], except: ['2026-11-26T18:00'] }
    expect(first(4, '2026-11-24T18:00', 'FREQ=DAILY;COUNT=3', more)).toEqual([
      '2026-11-24T18:00:00',
      '2026-11-25T07:00:00',
      '2026-11-25T18:00:00',
    ])
  })

  test('goes on after any instant, wherever that lies, as if it had been read from its start', () => {
    for (const rule of [
      'FREQ=DAILY;INTERVAL=7',
      'FREQ=WEEKLY;INTERVAL=3;BYDAY=MO,SU',
      'FREQ=MONTHLY;INTERVAL=5;BYDAY=-1FR',
      'FREQ=YEARLY;INTERVAL=3;BYWEEKNO=1,53;BYDAY=MO,SU',
      'FREQ=YEARLY;BYDAY=MO;BYSETPOS=-1',
      'FREQ=DAILY;COUNT=700',
      'FREQ=HOURLY;INTERVAL=5',
      'FREQ=HOURLY;BYHOUR=3,4;BYMINUTE=10,50',
      'FREQ=MINUTELY;INTERVAL=1441;BYDAY=SA',
    ]) {
      const from = '2024-01-30T09:30'
      const all = first(400, from, rule)
      for (const at of [1, 7, 50, 180]) {
        if (at + 3 > all.length) continue
        const afterMs = instantOf(all[at]!, newYork)
        expect([rule, at, first(3, from, rule, { afterMs })]).toEqual([rule, at, all.slice(at + 1, at + 4)])
      }
    }
  })

  test('moves ahead over a gap, rings once where the clocks are put back, and counts hours as they pass', () => {
    const zone = 'Europe/Oslo'
    expect(first(3, '2027-03-27T02:30', 'FREQ=DAILY', { zone })).toEqual([
      '2027-03-27T02:30:00',
      '2027-03-28T03:30:00',
      '2027-03-29T02:30:00',
    ])
    expect(first(3, '2027-10-30T02:30', 'FREQ=DAILY', { zone })).toEqual([
      '2027-10-30T02:30:00',
      '2027-10-31T02:30:00',
      '2027-11-01T02:30:00',
    ])
    // 02:30 rings at 03:30, and so does 03:30: once.
    expect(first(3, '2027-03-28T00:00', 'FREQ=DAILY;BYHOUR=2,3;BYMINUTE=30', { zone })).toEqual([
      '2027-03-28T03:30:00',
      '2027-03-29T02:30:00',
      '2027-03-29T03:30:00',
    ])
    // What is moved ahead comes after what it is moved over.
    expect(first(3, '2027-03-28T00:00', 'FREQ=DAILY;BYHOUR=2,3;BYMINUTE=10,50;COUNT=4', { zone })).toEqual([
      '2027-03-28T03:10:00',
      '2027-03-28T03:50:00',
    ])
    expect(first(5, '2027-10-31T01:00', 'FREQ=HOURLY', { zone })).toEqual(
      ['01', '02', '02', '03', '04'].map((hour) => `2027-10-31T${hour}:00:00`),
    )
  })

  test('knows a day that was left out, half an hour of summer, and leap days', () => {
    expect(first(3, '2011-12-29T10:00', 'FREQ=DAILY', { zone: 'Pacific/Apia' })).toEqual([
      '2011-12-29T10:00:00',
      '2011-12-31T10:00:00',
      '2012-01-01T10:00:00',
    ])
    expect(first(2, '2026-10-04T02:15', 'FREQ=DAILY', { zone: 'Australia/Lord_Howe' })).toEqual([
      '2026-10-04T02:45:00',
      '2026-10-05T02:15:00',
    ])
    expect(first(2, '2024-02-29T09:00', 'FREQ=YEARLY')).toEqual(['2024-02-29T09:00:00', '2028-02-29T09:00:00'])
  })

  test('that never comes, or not within a hundred years, is over; and the search is bounded', () => {
    for (const rule of [
      'FREQ=YEARLY;BYMONTH=2;BYMONTHDAY=31',
      'FREQ=DAILY;BYMONTH=2;BYMONTHDAY=30',
      'FREQ=MINUTELY;BYMONTH=2;BYMONTHDAY=30',
      'FREQ=HOURLY;BYMONTH=4;BYMONTHDAY=31',
      // Begun at nine, no odd hour and no odd minute comes in steps of two.
      'FREQ=MINUTELY;BYMINUTE=3;INTERVAL=2',
      'FREQ=MINUTELY;BYHOUR=3;BYMINUTE=7;INTERVAL=1440',
      'FREQ=YEARLY;INTERVAL=1000;BYMONTH=1;BYMONTHDAY=2',
      'FREQ=DAILY;BYMONTH=2;BYMONTHDAY=30;BYHOUR=0,1,2,3,4,5,6,7;BYMINUTE=0,1,2,3,4,5,6,7,8,9,10,11,12,13,14,15',
    ]) {
      let [stretches, found] = [0, 0]
      for (const times of ringTimes(
        { from: '2026-01-03T09:00', rule: ruleOf(rule), also: [], except: [] },
        newYork,
        Date.UTC(2026, 0, 4),
      )) {
        stretches++
        found += times.length
      }
      expect([rule, found, stretches > 3, stretches < 6_000]).toEqual([rule, 0, true, true])
    }
  })
})

describe('a rule that cannot be read is refused in a sentence', () => {
  test.each([
    ['', 'is not a name and a value'],
    ['FREQ=SECONDLY', 'would ring every second'],
    ['FREQ=FORTNIGHTLY', 'FREQ wants one of YEARLY, MONTHLY'],
    ['INTERVAL=2', 'wants FREQ'],
    ['FREQ=DAILY;FREQ=DAILY', 'stands there twice'],
    ['FREQ=DAILY;BYMOON=1', 'BYMOON is no part of a recurrence'],
    ['FREQ=DAILY;COUNT=0', 'COUNT wants a whole number from 1 to 100,000'],
    ['FREQ=DAILY;COUNT=1e9', 'COUNT wants a whole number'],
    ['FREQ=DAILY;INTERVAL=99999', 'INTERVAL wants a whole number from 1 to 10,000'],
    ['FREQ=DAILY;COUNT=2;UNTIL=20261231', 'COUNT and UNTIL do not go together'],
    ['FREQ=DAILY;UNTIL=20260231', 'UNTIL wants a date'],
    ['FREQ=DAILY;BYHOUR=24', 'BYHOUR wants numbers from 0 to 23'],
    ['FREQ=DAILY;BYMONTHDAY=0', 'BYMONTHDAY wants numbers from 1 to 31, or as many from the end'],
    ['FREQ=DAILY;BYSECOND=0,30', 'more than once a minute'],
    ['FREQ=WEEKLY;BYDAY=1MO', 'belong to MONTHLY and YEARLY'],
    ['FREQ=MONTHLY;BYDAY=0MO', 'lies from 1 to 53'],
    ['FREQ=MONTHLY;BYDAY=XX', 'BYDAY wants days'],
    ['FREQ=WEEKLY;BYMONTHDAY=3', 'does not go with WEEKLY'],
    ['FREQ=MONTHLY;BYWEEKNO=3', 'belongs to YEARLY'],
    ['FREQ=DAILY;BYYEARDAY=3', 'does not go with DAILY'],
    ['FREQ=DAILY;BYSETPOS=1', 'chooses from what another part names'],
    [`FREQ=DAILY;BYMONTHDAY=${'1,'.repeat(400)}1`, 'has more than 500 characters'],
  ])('%s', (text, says) => expect(parseCalendarRule(text)).toEqual(expect.stringContaining(says)))
})
