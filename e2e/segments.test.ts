import { beforeAll, describe, expect, test } from '@jest/globals'
import { Client } from '@zbell/contract'
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

const save = (segment: string, rule: string) =>
  client.call('saveSegment', { params: { ...params, segment }, body: { rule } })
const count = (rule: string) => client.call('countRule', { params, body: { rule } })
const explain = (body: object) => client.call('explainRule', { params, body: body as never })

describe('a segment over HTTP', () => {
  test('is saved, and a change is a new version', async () => {
    expect(await save('season', 'user.pass == "season"')).toMatchObject({ name: 'season', version: 1, note: null })
    expect(await save('season', 'user.pass == "season" && has(user.homePier)')).toMatchObject({ version: 2 })
    const { items } = await client.call('listSegments', { params })
    expect(items.find(({ name }) => name === 'season')).toMatchObject({
      rule: 'user.pass == "season" && has(user.homePier)',
    })
  })

  test('counts people and devices, per platform and reachable, with examples, while the rule is written', async () => {
    const counted = await count('user.pass == "season"')
    expect(counted).toMatchObject({ people: 2, devices: 3, estimated: false })
    expect(Object.values(counted.perPlatform).reduce((a, b) => a + b)).toBe(3)
    expect(new Set(counted.examples.map(({ user }) => user))).toEqual(new Set(['ada', 'nour']))
  })

  test('is offered what there is to write it with', async () => {
    const { attributes, happened, topics } = await client.call('readRuleWords', { params })
    expect(attributes).toContainEqual({ name: 'pass', type: 'text', values: ['season', 'weekly'] })
    expect(attributes.find(({ name }) => name === 'bicycle')).toEqual({ name: 'bicycle', type: 'boolean', values: [] })
    expect(happened).toEqual(['example.merrow-sound.booked'])
    expect(topics).toContain('route-4')
  })

  test('follows a change at once', async () => {
    await client.call('changeUserAttributes', { params: { ...params, user: 'haru' }, body: { pass: 'season' } })
    expect(await count('segment("season")')).toMatchObject({ people: 3 })
    await client.call('changeUserAttributes', { params: { ...params, user: 'haru' }, body: { pass: 'weekly' } })
    expect(await count('segment("season")')).toMatchObject({ people: 2 })
  })

  test('lists its members, page by page, each once', async () => {
    const all = await client.all('listSegmentMembers', {
      params: { ...params, segment: 'season' },
      query: { limit: 1 },
    })
    expect(all.map(({ user }) => user).sort()).toEqual(['ada', 'ada', 'nour'])
    expect(new Set(all.map(({ device }) => device)).size).toBe(3)
  })

  test('is explained for one person, clause by clause, and what is not known is neither', async () => {
    expect(await explain({ segment: 'season', user: 'ada' })).toMatchObject({
      belongs: true,
      parts: [
        { text: 'user.pass == "season"', value: '"season"', verdict: true },
        { text: 'has(user.homePier)', value: null, verdict: true },
      ],
    })
    expect(await explain({ rule: 'user.renewed < now', user: 'nour' })).toMatchObject({
      belongs: null,
      parts: [{ value: expect.stringContaining('not known'), verdict: null }],
    })
    const booked = 'count("example.merrow-sound.booked", duration("24h"), o, o.data.sailing == 101) == 1'
    expect(await explain({ rule: booked, user: 'ada' })).toMatchObject({ belongs: true })
  })

  test('that another one uses is not removed, and says by which', async () => {
    await save('quiet-season', 'segment("season") && opened(duration("720h")) == 0')
    await expect(client.call('deleteSegment', { params: { ...params, segment: 'season' } })).rejects.toMatchObject({
      problem: { code: 'segment-in-use', detail: 'season is used by quiet-season.' },
    })
    await client.call('deleteSegment', { params: { ...params, segment: 'quiet-season' } })
    await client.call('deleteSegment', { params: { ...params, segment: 'season' } })
    await expect(client.call('readSegment', { params: { ...params, segment: 'season' } })).rejects.toMatchObject({
      problem: { code: 'unknown-segment' },
    })
    expect(await save('season', 'user.pass == "season"')).toMatchObject({ version: 3 })
  })

  test('names itself neither directly nor through another', async () => {
    await save('a', 'segment("season")')
    await save('b', 'segment("a")')
    await expect(save('a', 'segment("b")')).rejects.toMatchObject({
      problem: { code: 'rule-refused', detail: expect.stringContaining('in circles: a → b → a') },
    })
    await expect(save('c', 'segment("c")')).rejects.toMatchObject({ problem: { code: 'rule-refused' } })
  })

  test('cannot be made so large by naming others that nothing could answer it', async () => {
    const often = (name: string) => Array.from({ length: 25 }, () => `segment("${name}")`).join(' || ')
    await save('bomb-0', 'user.pass == "season"')
    await save('bomb-1', often('bomb-0'))
    await expect(save('bomb-2', `${often('bomb-1')}`)).rejects.toMatchObject({
      problem: { code: 'rule-refused', detail: expect.stringContaining('has more than 2000 parts') },
    })
    // What was small when it was saved may stand on something that grew: then it has nobody, and says why.
    await save('bomb-3', 'segment("bomb-1") || user.pass == "weekly"')
    await save('bomb-0', often('season'))
    await expect(count('segment("bomb-3")')).rejects.toMatchObject({ problem: { code: 'rule-refused' } })
    const { id } = await client.call('sendNotification', {
      params,
      body: { to: { any: ['segment:bomb-3'] }, content: { title: 'Nobody' } },
    })
    const sent = await until(
      () => client.call('readNotification', { params: { ...params, id } }),
      ({ state }) => state === 'finished',
    )
    expect(sent.totals.expanded).toBe(0)
  })

  test('with a rule that cannot be used is refused at its line and column', async () => {
    await expect(save('wrong', 'has(user.pass) &&\n  user.pas == "season"')).rejects.toMatchObject({
      problem: {
        status: 422,
        code: 'rule-refused',
        errors: [{ pointer: '/rule', line: 2, column: 3, detail: 'no attribute pas is known; the nearest is pass' }],
      },
    })
    await expect(count(`${'('.repeat(3_999)}`)).rejects.toMatchObject({ problem: { code: 'rule-refused' } })
    await expect(count('x'.repeat(4_001))).rejects.toMatchObject({ problem: { code: 'invalid-request' } })
    await expect(explain({ rule: 'true' })).rejects.toMatchObject({ problem: { code: 'invalid-request' } })
    await expect(explain({ rule: 'true', user: 'nobody-here' })).rejects.toMatchObject({
      problem: { code: 'unknown-user' },
    })
  })

  test('that looks further back than deliveries are kept is refused where it is written', async () => {
    await expect(save('told', 'opened(duration("2400h")) > 1')).rejects.toMatchObject({
      problem: { errors: [{ line: 1, column: 8, detail: 'reaches further back than is kept, which is 2160h' }] },
    })
    expect((await save('told', 'count("example.booked", duration("2400h")) > 1')).version).toBe(1)
  })

  test('takes SQL in a text for a text', async () => {
    expect(await count(`user.homePier == "' or 1=1 -- "`)).toMatchObject({ people: 0 })
    expect(await count(`user.homePier != "'; drop table users; --"`)).toMatchObject({ people: 4 })
  })
})

describe('a segment as a target', () => {
  const send = (to: object) =>
    client.call('sendNotification', { params, body: { to: to as never, content: { title: 'Winter timetable' } } })
  const reachedBy = async (to: object): Promise<string[]> => {
    const { id } = await send(to)
    const at = { params: { ...params, id } }
    await until(
      () => client.call('readNotification', at),
      ({ state }) => state === 'finished',
    )
    return (await client.all('listDeliveries', at)).map(({ user }) => user ?? '').sort()
  }

  test('rings whoever belongs, each device once, beside other references and without those of another', async () => {
    await save('commuters', 'follows("route-4")')
    expect(await reachedBy({ any: ['segment:season'] })).toEqual(['ada', 'ada', 'nour'])
    expect(await reachedBy({ any: ['segment:season', 'segment:commuters', 'user:haru'] })).toEqual([
      'ada',
      'ada',
      'haru',
      'nour',
      'signe',
    ])
    expect(await reachedBy({ any: ['segment:season'], all: ['segment:commuters'] })).toEqual(['nour'])
    expect(await reachedBy({ any: ['everyone'], none: ['segment:season'] })).toEqual(['haru', 'signe'])
    expect(await reachedBy({ all: ['topic:route-4', 'segment:season'] })).toEqual(['nour'])
  })

  test('can be a rule that nobody saved, alone or beside references', async () => {
    expect(await reachedBy({ rule: 'user.pass == "weekly"' })).toEqual(['haru', 'signe'])
    expect(await reachedBy({ any: ['topic:route-4'], rule: 'user.pass == "weekly"' })).toEqual(['signe'])
    expect(await reachedBy({ rule: 'user.pass == "weekly"', platforms: ['ios'] })).toEqual(['haru'])
    await expect(send({ rule: 'user.pas == "x"' })).rejects.toMatchObject({
      problem: { code: 'rule-refused', errors: [{ pointer: '/to/rule', line: 1, column: 1 }] },
    })
  })

  test('is counted by the review as it rings', async () => {
    const review = await client.call('reviewNotification', {
      params,
      query: {},
      body: { to: { any: ['segment:season'] }, content: { title: 'T' } },
    })
    const { ios, android, web } = review.devices
    const out = review.leftOut.reduce((sum, one) => sum + one.count, 0)
    expect(ios + android + web + out).toBe(3)
  })

  test('is kept in the version that was sent by, and one that is not there is refused', async () => {
    const { id } = await send({ any: ['segment:season'] })
    const { version } = await client.call('readSegment', { params: { ...params, segment: 'season' } })
    expect((await client.call('readNotification', { params: { ...params, id } })).to).toEqual({
      any: [`segment:season@${version}`],
    })
    await expect(send({ any: ['segment:nobody'] })).rejects.toMatchObject({
      problem: { errors: [{ pointer: '/to/any/0', detail: 'is not a segment of this app' }] },
    })
  })

  test('is told by Why, clause by clause, as it was when it was sent', async () => {
    await save('booked', 'user.pass == "weekly" && count("example.merrow-sound.tried", duration("24h")) == 0')
    const { id } = await send({ any: ['segment:booked'], rule: 'user.homePier == "Brackenholm"' })
    await until(
      () => client.call('readNotification', { params: { ...params, id } }),
      ({ totals }) => totals.expanded === 1,
    )
    // What happens later changes nothing of it; what was set anew is said.
    await client.call('reportOccurrences', {
      params,
      body: [{ id: 'tried-1', source: '/app', type: 'example.merrow-sound.tried', subject: 'signe' }],
    })
    await client.call('changeUserAttributes', { params: { ...params, user: 'signe' }, body: { pass: 'season' } })
    const why = await client.call('explainDelivery', { params: { ...params, id, who: 'signe' } })
    expect(why.devices[0]?.rules).toEqual([
      {
        segment: 'booked@1',
        rule: 'user.pass == "weekly" && count("example.merrow-sound.tried", duration("24h")) == 0',
        belongs: false,
        parts: [
          { text: 'user.pass == "weekly"', value: '"season"', verdict: false, depth: 0 },
          { text: 'count("example.merrow-sound.tried", duration("24h")) == 0', value: '0', verdict: true, depth: 0 },
        ],
        changed: ['pass'],
      },
      {
        segment: null,
        rule: 'user.homePier == "Brackenholm"',
        belongs: true,
        parts: [{ text: 'user.homePier == "Brackenholm"', value: '"Brackenholm"', verdict: true, depth: 0 }],
        changed: [],
      },
    ])
    const drawn = (await demo.zbell('why', id, 'signe')).out
    expect(drawn).toContain('Segment booked@1 did not hold')
    expect(drawn).toContain('set again since, and perhaps otherwise then: pass')
    await client.call('changeUserAttributes', { params: { ...params, user: 'signe' }, body: { pass: 'weekly' } })
    const other = await client.call('sendNotification', {
      params,
      body: { to: { any: ['user:ada'] }, content: { title: 'T' } },
    })
    const plain = await client.call('explainDelivery', { params: { ...params, id: other.id, who: 'ada' } })
    expect(plain.devices.every(({ rules }) => rules.length === 0)).toBe(true)
  })

  test('is said by zbell send', async () => {
    const sent = await demo.zbell(
      'send',
      '--where',
      'user.pass == "weekly"',
      '--title',
      'Passes are cheaper',
      '--review',
      '--json',
    )
    expect([sent.code, JSON.parse(sent.out)]).toEqual([0, expect.objectContaining({ people: 2 })])
    const refused = await demo.zbell(
      'send',
      '--to',
      'everyone',
      '--where',
      'user.pass = "x"',
      '--title',
      'T',
      '--review',
    )
    expect([refused.code, refused.err]).toEqual([6, expect.stringContaining('whether two are equal is asked by ==')])
  })
})

describe('a segment by zbell', () => {
  test('is saved, listed, counted, tried and removed', async () => {
    const saved = await demo.zbell('segment', 'save', 'travellers', 'follows("route-4")', '--note', 'crosses daily')
    expect(saved.out).toBe('Saved as travellers, version 1. Count it with: zbell segment count travellers\n')
    expect((await demo.zbell('segment', 'list')).out).toMatch(/travellers +1 .*follows\("route-4"\)/)
    expect((await demo.zbell('segment', 'show', 'travellers')).out).toContain('crosses daily')
    expect((await demo.zbell('segment', 'count', 'travellers')).out).toMatch(
      /^2 people, 2 devices .*; 1 can be rung\nsuch as signe, nour\n/,
    )
    expect((await demo.zbell('segment', 'members', 'travellers')).out).toContain('signe')
    const tried = await demo.zbell('segment', 'try', 'travellers', 'ada')
    expect([tried.code, tried.out]).toEqual([
      0,
      expect.stringMatching(/^ada does not belong\.\n.*\nno +follows\("route-4"\)/s),
    ])
    expect((await demo.zbell('segment', 'delete', 'travellers')).code).toBe(0)
  })

  test('shows where a rule is wrong, under its line', async () => {
    const { code, err } = await demo.zbell('segment', 'count', 'has(user.pass) && user.homePear == "Saltmere"')
    expect(code).toBe(6)
    expect(err).toContain(
      '  has(user.pass) && user.homePear == "Saltmere"\n                    ^ no attribute homePear is known; the nearest is homePier\n',
    )
    const never = await demo.zbell('segment', 'save', 'crossers', 'follows("route4")')
    expect([never.code, never.err]).toEqual([
      0,
      '  follows("route4")\n  ^ nobody has declared or joined the topic route4; the nearest is route-4\n',
    ])
  })
})
