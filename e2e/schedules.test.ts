import { beforeAll, describe, expect, test } from '@jest/globals'
import { Client, type NotificationRequest, type When } from '@zbell/contract'
import { Company } from './harness/demo.ts'
import { until } from './harness/programs.ts'

const demo = new Company()
const params = { app: '' }
let client: Client

beforeAll(async () => {
  await demo.open()
  params.app = demo.ready.app
  client = new Client({ url: demo.ready.service, bearer: demo.ready.backendKey })
})

const to = { any: ['user:ada'] }
const content = { title: 'Sailings tomorrow' }
const send = (more: Partial<NotificationRequest>) =>
  client.call('sendNotification', { params, body: { to, content, ...more } })
const save = (schedule: string, when: When, more: object = {}) =>
  client.call('saveSchedule', {
    params: { ...params, schedule },
    body: { when, notification: { to, content }, ...more },
  })
const runs = async (schedule: string) =>
  (await client.call('listRuns', { params: { ...params, schedule }, query: {} })).items
const preview = async (when: When, count: number, from?: string) =>
  (await client.call('previewSchedule', { params, body: { when, count, ...(from ? { from } : {}) } })).times
/** A wall clock in UTC, so many seconds from now. */
const inSeconds = (seconds: number) => new Date(Date.now() + seconds * 1_000).toISOString().slice(0, 19)
const refusal = (call: Promise<unknown>) =>
  call.then(
    () => undefined,
    (error: { problem: { errors?: { pointer: string; detail: string }[] } }) =>
      error.problem.errors?.map(({ pointer, detail }) => `${pointer} ${detail}`).join('; '),
  )

describe('a notification with an hour of its own', () => {
  test('waits for it, says so, and rings then', async () => {
    const sent = await send({ when: { afterSeconds: 3 }, name: 'soon' })
    expect(sent.state).toBe('scheduled')
    const dueMs = Date.parse(sent.dueAt!)
    expect(dueMs - Date.parse(sent.createdAt)).toBeGreaterThan(2_500)
    expect(Date.parse(sent.expiresAt) - dueMs).toBe(86_400_000)
    const waiting = await client.call('readNotification', { params: { ...params, id: sent.id } })
    expect(waiting).toMatchObject({ state: 'scheduled', dueAt: sent.dueAt, missedAt: null, schedule: null })
    const why = await client.call('explainDelivery', { params: { ...params, id: sent.id, who: 'ada' } })
    expect(why.verdict).toContain('Not yet: the notification waits for its hour')
    const done = await until(
      () => client.call('readNotification', { params: { ...params, id: sent.id } }),
      ({ state }) => state === 'finished',
    )
    expect(done.totals.expanded).toBe(2)
    expect(Date.parse(done.finishedAt!)).toBeGreaterThanOrEqual(dueMs)
  })

  test('that is sent again under the same key is the same, also after its hour', async () => {
    const headers = { 'idempotency-key': 'boat-1' }
    const body: NotificationRequest = { to, content, when: { at: `${inSeconds(2)}Z` } }
    const first = await client.call('sendNotification', { params, body, headers })
    await until(
      () => client.call('readNotification', { params: { ...params, id: first.id } }),
      ({ state }) => state === 'finished',
    )
    expect(await client.call('sendNotification', { params, body, headers })).toEqual(first)
    await expect(
      client.call('sendNotification', { params, body: { ...body, urgency: 'high' }, headers }),
    ).rejects.toMatchObject({ problem: { code: 'idempotency-mismatch' } })
  })

  test('finds whom it means then, and not when it was written', async () => {
    const { id } = await send({ to: { any: ['topic:route-6'] }, when: { afterSeconds: 2 } })
    await client.call('joinTopic', { params: { ...params, topic: 'route-6' }, body: { users: ['haru'] } })
    const done = await until(
      () => client.call('readNotification', { params: { ...params, id } }),
      ({ state }) => state === 'finished',
    )
    expect(done.totals.expanded).toBe(1)
  })

  test('is found, made anew and cancelled by its name, as a schedule is', async () => {
    const first = await send({ when: { local: '2099-11-27T18:00', zone: 'Europe/Oslo' }, name: 'far' })
    expect(first.dueAt).toBe('2099-11-27T17:00:00.000Z')
    const { items } = await client.call('listUpcoming', { params, query: { days: 92 } })
    expect(items.map(({ name }) => name)).not.toContain('far')
    await save('far', { at: '2099-12-01T08:00:00Z' })
    expect((await client.call('readNotification', { params: { ...params, id: first.id } })).state).toBe('cancelled')
    await client.call('deleteSchedule', { params: { ...params, schedule: 'far' } })
    const second = await send({ when: { at: '2099-11-27T18:00:00Z' }, name: 'far' })
    await client.call('deleteSchedule', { params: { ...params, schedule: 'far' } })
    const cancelled = await until(
      () => client.call('readNotification', { params: { ...params, id: second.id } }),
      ({ state }) => state === 'cancelled',
    )
    expect(cancelled.totals.expanded).toBe(0)
    await expect(client.call('deleteSchedule', { params: { ...params, schedule: 'far' } })).rejects.toMatchObject({
      problem: { code: 'unknown-schedule' },
    })
  })

  test('that repeats becomes a schedule of its name', async () => {
    const when = { from: '2026-01-01T18:00', zone: 'Europe/Oslo', repeat: 'FREQ=DAILY' }
    expect(await refusal(send({ when }))).toContain('/name is needed')
    const sent = await send({ when, name: 'evening' })
    expect(sent).toMatchObject({ state: 'scheduled' })
    const kept = await client.call('readSchedule', { params: { ...params, schedule: 'evening' } })
    expect(kept).toMatchObject({ nextAt: sent.dueAt, when, version: 1, shows: { title: 'Sailings tomorrow' } })
  })
})

describe('a schedule', () => {
  test('rings at each of its times, each run a notification that knows it', async () => {
    const saved = await save('often', {
      from: '2020-01-01T00:00',
      zone: 'UTC',
      repeat: 'FREQ=YEARLY',
      also: [inSeconds(2), inSeconds(4)],
    })
    const two = await until(
      () => runs('often'),
      (all) => all.length === 2,
    )
    expect(two.map(({ state }) => state)).toEqual(['rung', 'rung'])
    expect(two.map(({ dueAt }) => dueAt)).toEqual([...saved.when.also!].reverse().map((one) => `${one}.000Z`))
    for (const { notification, dueAt } of two) {
      const run = await until(
        () => client.call('readNotification', { params: { ...params, id: notification! } }),
        ({ state }) => state === 'finished',
      )
      expect(run).toMatchObject({ schedule: 'often', name: 'often', dueAt })
      expect(run.totals.expanded).toBe(2)
    }
    const { nextAt } = await client.call('readSchedule', { params: { ...params, schedule: 'often' } })
    expect(nextAt).toMatch(/-01-01T00:00:00.000Z$/)
  })

  test('rests, goes on, leaves a time out, and is rung by hand', async () => {
    const at = { ...params, schedule: 'evening' }
    const { nextAt } = await client.call('readSchedule', { params: at })
    expect((await client.call('changeSchedule', { params: at, body: { paused: true } })).nextAt).toBeNull()
    expect((await client.call('changeSchedule', { params: at, body: { paused: false } })).nextAt).toBe(nextAt)
    const skipped = await client.call('skipRun', { params: at })
    expect(Date.parse(skipped.nextAt!)).toBeGreaterThan(Date.parse(nextAt!))
    const byHand = await client.call('runSchedule', { params: at })
    const run = await until(
      () => client.call('readNotification', { params: { ...params, id: byHand.notification! } }),
      ({ state }) => state === 'finished',
    )
    expect(run.schedule).toBe('evening')
    expect((await runs('evening')).map(({ state, says }) => [state, says])).toEqual([
      ['rung', 'rung by hand'],
      ['skipped', null],
    ])
  })

  test('rings by the clock of each reader: it is upcoming at their hour, and can be written so', async () => {
    const when = { from: '2026-11-27T18:00', zone: 'reader', repeat: 'FREQ=DAILY' }
    const saved = await save('each', when)
    // Where the day begins first it is 14 hours ahead of UTC.
    expect(saved.nextAt).toMatch(/T04:00:00.000Z$/)
    const { items } = await client.call('listUpcoming', { params, query: { days: 2 } })
    expect(items.find(({ schedule }) => schedule === 'each')?.readersHour).toMatch(/T18:00:00$/)
    const sent = await send({ when: { local: '2099-11-27T07:30', zone: 'reader', past: 'tomorrow' } })
    expect(sent.dueAt).toBe('2099-11-26T17:30:00.000Z')
    const kept = await client.call('readNotification', { params: { ...params, id: sent.id } })
    expect(kept.readersHour).toBe('2099-11-27T07:30')
    const said = await demo.zbell(
      'send',
      '--to',
      'user:ada',
      '--title',
      'T',
      '--at',
      '2099-11-27 07:30',
      '--zone',
      'reader',
    )
    expect(said.err).toBe('Rings 27 Nov 2099, 07:30:00 (each reader’s clock)\n')
  })

  test('stands in what is upcoming, with single ones, soonest first', async () => {
    await send({ when: { afterSeconds: 7_200 }, name: 'in-two-hours' })
    const { items, cut } = await client.call('listUpcoming', { params, query: { days: 3 } })
    expect(cut).toBe(false)
    expect(items.filter(({ schedule }) => schedule === 'evening').length).toBeGreaterThanOrEqual(2)
    expect(items.find(({ name }) => name === 'in-two-hours')).toMatchObject({ schedule: null, repeats: false })
    const times = items.map(({ dueAt }) => dueAt)
    expect(times).toEqual([...times].sort())
  })

  test('of a template says what that says when its time comes', async () => {
    const template = (title: string) =>
      client.call('saveTemplate', { params: { ...params, template: 'evening' }, body: { content: { title } } as never })
    await template('First words')
    await client.call('saveSchedule', {
      params: { ...params, schedule: 'by-template' },
      body: { when: { at: '2099-01-01T00:00:00Z' }, notification: { to, template: 'evening' } },
    })
    await template('Later words')
    const { notification } = await client.call('runSchedule', { params: { ...params, schedule: 'by-template' } })
    const run = await client.call('readNotification', { params: { ...params, id: notification! } })
    expect(run.shows.title).toBe('Later words')
  })

  test('is cancelled by name, and all together only by their number', async () => {
    await save('tomorrow', { local: inSeconds(86_400), zone: 'UTC' })
    await client.call('deleteSchedule', { params: { ...params, schedule: 'tomorrow' } })
    const { items } = await client.call('listSchedules', { params })
    await expect(client.call('cancelSchedules', { params, body: { count: items.length + 1 } })).rejects.toMatchObject({
      problem: { code: 'schedules-changed' },
    })
    expect(await client.call('cancelSchedules', { params, body: { count: items.length } })).toEqual({
      cancelled: items.length,
    })
  })
})

describe('a preview', () => {
  test('has the times from any instant on, the past included', async () => {
    const when = { from: '2026-11-27T18:00', zone: 'Europe/Oslo', repeat: 'FREQ=WEEKLY;BYDAY=MO,TU' }
    expect(await preview(when, 3, '2026-11-27T00:00:00Z')).toEqual([
      '2026-11-30T17:00:00Z',
      '2026-12-01T17:00:00Z',
      '2026-12-07T17:00:00Z',
    ])
    expect(await preview({ at: '2026-11-27T17:00:00Z' }, 3, '2020-01-01T00:00:00Z')).toEqual(['2026-11-27T17:00:00Z'])
    const newYear = { from: '1997-09-02T09:00', zone: 'America/New_York', repeat: 'FREQ=DAILY;COUNT=2' }
    expect(await preview(newYear, 9, '1997-01-01T00:00:00Z')).toEqual(['1997-09-02T13:00:00Z', '1997-09-03T13:00:00Z'])
    expect(await preview(newYear, 9)).toEqual([])
  })

  test.each<[string, object, string]>([
    ['nothing', {}, '/when wants one of at, afterSeconds'],
    ['two kinds', { at: '2099-01-01T00:00:00Z', afterSeconds: 3 }, '/when wants one of at, afterSeconds'],
    [
      'a zone that is none',
      { local: '2099-01-01T00:00', zone: 'Merrow/Sound' },
      '/when/zone is neither an IANA time zone',
    ],
    ['no zone', { local: '2099-01-01T00:00' }, '/when/zone is needed'],
    ['a day that is none', { local: '2099-02-30T00:00', zone: 'UTC' }, '/when/local is not a local time'],
    ['the year 9999', { local: '9999-01-01T00:00', zone: 'UTC' }, '/when/local is not a local time'],
    ['an instant in the year 9999', { at: '9999-01-01T00:00:00Z' }, '/when/at is not an instant before'],
    ['what goes with something else', { at: '2099-01-01T00:00:00Z', zone: 'UTC' }, '/when/zone does not go with at'],
    ['every second', { from: '2026-01-01T00:00', zone: 'UTC', repeat: 'FREQ=SECONDLY' }, '/when/repeat FREQ=SECONDLY'],
    [
      'too many exceptions',
      {
        from: '2026-01-01T00:00',
        zone: 'UTC',
        repeat: 'FREQ=DAILY',
        except: Array.from({ length: 10_000 }, () => '2026-01-01T00:00'),
      },
      '/when/except has more than 500',
    ],
  ])('refuses %s', async (_says, when, says) => {
    expect(await refusal(preview(when as When, 1))).toContain(says)
  })

  test('of what never comes is empty, and nobody can save it', async () => {
    const never = { from: '2026-01-01T00:00', zone: 'UTC', repeat: 'FREQ=MONTHLY;BYMONTH=2;BYMONTHDAY=31' }
    expect(await preview(never, 3)).toEqual([])
    expect(await refusal(save('never', never))).toContain('has no time that is still to come')
    expect(await refusal(send({ when: { at: '2020-01-01T00:00:00Z' } }))).toContain('has no time that is still to come')
    expect(await refusal(save('Not A Name', never))).toContain('as a name')
  })
})

describe('by zbell', () => {
  test('what was understood is said with its zone before anything is stored', async () => {
    const sent = await demo.zbell(
      'send',
      '--to',
      'user:ada',
      '--title',
      'T',
      '--at',
      '2099-11-27 18:00',
      '--zone',
      'Europe/Oslo',
      '--name',
      'far',
    )
    expect([sent.code, sent.err]).toEqual([0, 'Rings 27 Nov 2099, 18:00:00 CET (Europe/Oslo)\n'])
    const listed = await demo.zbell('schedule', 'cancel', 'far')
    expect(listed.out).toBe('far is cancelled.\n')
    for (const [at, says] of [
      ['25:00', '“25:00” is no time'],
      ['soon', '“soon” is no time'],
    ])
      expect((await demo.zbell('send', '--to', 'user:ada', '--title', 'T', '--at', at!)).err).toContain(says)
    expect((await demo.zbell('send', '--to', 'user:ada', '--title', 'T', '--in', 'a while')).err).toContain(
      'no length of time',
    )
  })

  test('a schedule is saved, shown, skipped, rung and cancelled', async () => {
    const words = ['schedule', 'save', 'weekly', '--file', 'docs/examples/delay.yaml', '--to', 'user:ada']
    const saved = await demo.zbell(
      ...words,
      '--at',
      '2026-11-27 18:00',
      '--zone',
      'Europe/Oslo',
      '--repeat',
      'FREQ=WEEKLY;BYDAY=MO',
    )
    expect([saved.code, saved.out]).toEqual([0, 'Saved as weekly, version 1.\n'])
    expect(saved.err).toMatch(/^Rings .* CES?T, then .* … \(Europe\/Oslo\)\n$/)
    expect((await demo.zbell('schedule', 'list')).out).toContain(
      'FREQ=WEEKLY;BYDAY=MO from 2026-11-27 18:00 (Europe/Oslo)',
    )
    expect((await demo.zbell('schedule', 'next', 'weekly', '--count', '2')).out.trim().split('\n')).toHaveLength(2)
    const before = (await demo.zbell('schedule', 'next', 'weekly', '--count', '2')).out.split('\n')
    expect((await demo.zbell('schedule', 'skip', 'weekly')).out).toContain('Left out. weekly rings next: ')
    // What was left out is not among the next times any more, and is told, also after the schedule is saved anew.
    const repeats = ['--at', '2026-11-27 18:00', '--zone', 'Europe/Oslo', '--repeat', 'FREQ=WEEKLY;BYDAY=MO']
    await demo.zbell(...words, ...repeats)
    const after = (await demo.zbell('schedule', 'next', 'weekly', '--count', '1')).out
    expect(after).toBe(`${before[1]}\nnot ${before[0]}, left out by hand\n`)
    expect((await demo.zbell('schedule', 'show', 'weekly')).out).toContain(`not    ${before[0]}, left out by hand`)
    const sunday = await demo.zbell(...words, ...repeats, '--except', '2027-01-03')
    expect([sunday.code, sunday.err]).toEqual([6, expect.stringContaining('is 2027-01-03, which is none of its times')])
    const lists = ['--also', '2027-01-05', '--except', '2027-01-04', '2027-01-11 18:00']
    expect((await demo.zbell(...words, ...repeats, ...lists)).code).toBe(0)
    const listed = (await demo.zbell('schedule', 'next', 'weekly', '--count', '60')).out
    expect(['04', '05', '11', '18'].map((day) => listed.includes(`${day} Jan 2027`))).toEqual([
      false,
      true,
      false,
      true,
    ])
    expect((await demo.zbell('schedule', 'show', 'weekly')).out).toContain(
      ', also 2027-01-05, except 2027-01-04, 2027-01-11 18:00',
    )
    expect((await demo.zbell('schedule', 'pause', 'weekly')).out).toBe('weekly rests.\n')
    expect((await demo.zbell('schedule', 'resume', 'weekly')).out).toContain('weekly goes on: ')
    expect((await demo.zbell('schedule', 'run', 'weekly')).out).toMatch(/^[0-9a-f-]{36}\n$/)
    const ran = (await demo.zbell('schedule', 'runs', 'weekly')).out
    expect(ran).toContain('rung by hand')
    expect(ran).toContain('skipped')
    expect((await demo.zbell('schedule', 'upcoming', '--days', '30')).out).toContain('weekly')
    expect((await demo.zbell('schedule', 'cancel-all')).err).toContain('nobody is here to ask; add --yes')
    expect((await demo.zbell('schedule', 'cancel-all', '--yes')).out).toBe('1 schedule is cancelled.\n')
  })
})
