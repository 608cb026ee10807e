import { describe, expect, test } from '@jest/globals'
import { RuleRefused } from '@zbell/core/rules'
import {
  Expression,
  type ExpressionInput,
  Trigger,
  type TriggerDefinition,
  triggerFaults,
  triggerWarnings,
} from '@zbell/core/triggers'

const now: ExpressionInput = {
  row: {
    id: 101,
    route: 4,
    delay: 17.5,
    status: 'late',
    departs: new Date('2026-11-28T17:30:00Z'),
    berth: null,
    tags: ['a', 'b'],
    '__proto__ x': 1,
    constructor: 'hull',
  },
  before: { delay: 3 },
}
const say = (text: string, given: ExpressionInput = now) => {
  const found = new Expression(text).evaluate(given)
  return found.is === 'value' ? found.value : `neither: ${found.says}`
}
const refusal = (text: string) => {
  try {
    new Expression(text)
    return undefined
  } catch (error) {
    if (error instanceof RuleRefused) return error.message
    throw error
  }
}

describe('an expression of a trigger', () => {
  test.each([
    ['row.delay >= 15 && (before.delay < 15 || !has(before.delay))', true],
    ["'topic:route-' + string(row.route)", 'topic:route-4'],
    ['row.delay + 5', 22.5],
    ['60 * row.delay', 1_050],
    ['row.id % 2 == 1.0', true],
    ['row.route', 4],
    ['row.berth == null', true],
    ['row.departs > timestamp("2026-11-28T17:00:00Z")', true],
    ['row.departs', '2026-11-28T17:30:00.000Z'],
    ["row.tags.exists(one, one == 'b')", true],
    ["row['__proto__ x'] + 0", 1],
    ['row.constructor', 'hull'],
    ["row.status.matches('^(late|early)$')", true],
    ["{'delay': row.delay, 'tags': row.tags}", { delay: 17.5, tags: ['a', 'b'] }],
    ['gone', false],
  ])('%s', (text, expected) => expect(say(text)).toEqual(expected))

  test.each([
    ['row.missing', /field not found: missing|no such key/],
    ["'user:' + row.berth", /overload/],
    ['row.toString', /not found|no such key/],
  ])('%s has no value, and says why', (text, says) => expect(say(text)).toMatch(says))

  test('does not hold where it is neither yes nor no', () => {
    expect(new Expression('row.missing > 3').holds(now).holds).toBe(false)
    expect(new Expression('row.missing > 3 || row.delay > 3').holds(now)).toEqual({ holds: true })
    expect(new Expression('row.delay').holds(now)).toEqual({ holds: false })
  })

  test.each([
    ['', /wants a condition/],
    ['user.pass == "season"', /“user” is not known here; there are row, before, event, gone, now/],
    ['row.delay >=', /after >= a value is wanted/],
    ["'user:' + 5", /“"user:" \+ 5” can never be worked out/],
    ["row.delay > 5 ? 'pier ' + 2 : 'none'", /“"pier " \+ 2” can never/],
    ['row.delay > 1 / 0', /“1 \/ 0” can never/],
    ['size(5) > row.delay', /can never/],
    ['row.tags.all(a, row.tags.all(b, a != b))', /a loop within a loop/],
    [`${'row.a + '.repeat(150)}1`, /parts|words/],
  ])('%s is refused', (text, says) => expect(refusal(text)).toMatch(says))
})

const late: TriggerDefinition = {
  source: 'sailings',
  when: 'row.delay >= 15 && (before.delay < 15 || !has(before.delay))',
  to: { any: ["'topic:route-' + string(row.route)"] },
  template: 'delay',
  values: { vessel: 'row.status', delay: 'row.delay', berth: 'row.berth' },
  key: 'string(row.id)',
  options: { tag: "'sailing-' + string(row.id)", urgency: 'high' },
}

describe('a trigger', () => {
  test('fires with its references, its values and its key; a value that the row does not have is left out', () => {
    expect(new Trigger(late).fire(now, 'own')).toEqual({
      is: 'fires',
      case: 0,
      key: '101',
      to: { any: ['topic:route-4'] },
      template: 'delay',
      content: undefined,
      values: { vessel: 'late', delay: 17.5 },
      tag: 'sailing-101',
    })
    expect(new Trigger({ ...late, key: undefined }).fire(now, 'own')).toMatchObject({ key: 'own' })
  })

  test('fires for no row for which its condition does not hold, also one that is new', () => {
    expect(new Trigger(late).fire({ ...now, before: { delay: 16 } }, '')).toMatchObject({ is: 'no-case' })
    expect(new Trigger(late).fire({ ...now, before: {} }, '')).toMatchObject({ is: 'fires' })
    expect(new Trigger(late).fire({ row: {}, before: {} }, '')).toMatchObject({ is: 'no-case' })
  })

  test('takes the first case that holds, with what the trigger says for all', () => {
    const cases = [
      { when: "row.status == 'cancelled'", template: 'cancelled' },
      { when: 'row.delay > 10', to: { any: ["'user:ada'"] } },
      { when: 'true', content: { title: 'Something changed' } },
    ]
    const trigger = new Trigger({ ...late, when: undefined, cases })
    const cancelled = { row: { ...(now.row as object), status: 'cancelled' }, before: {} }
    expect(trigger.fire(cancelled, '')).toMatchObject({
      case: 0,
      template: 'cancelled',
      to: { any: ['topic:route-4'] },
    })
    expect(trigger.fire(now, '')).toMatchObject({ case: 1, template: 'delay', to: { any: ['user:ada'] } })
    const small = { row: { ...(now.row as object), delay: 1 }, before: {} }
    expect(trigger.fire(small, '')).toMatchObject({
      case: 2,
      content: { title: 'Something changed' },
      template: undefined,
    })
    const outer = new Trigger({ ...late, cases })
    expect(outer.fire(small, '')).toMatchObject({ is: 'no-case' })
  })

  test.each([
    [{ name: 'two words' }, /the reference “user:two words”/],
    [{ name: null }, /the reference 'user:' \+ row.name cannot be said/],
    [{ name: '' }, /./],
    [{}, /cannot be said/],
  ])('names nobody else than it means: %j', (row, says) => {
    const fired = new Trigger({ source: 's', to: { any: ["'user:' + row.name"] }, content: { title: 'T' } }).fire(
      { row },
      'k',
    )
    expect(fired).toMatchObject({ is: 'fault', says: expect.stringMatching(says) })
  })

  test('keeps what stands in a name within its own reference', () => {
    const to = { any: ["'user:' + row.name"] }
    for (const name of ['everyone', 'topic:all', "x' || true", '{vessel}'])
      expect(new Trigger({ source: 's', to, content: { title: 'T' } }).fire({ row: { name } }, 'k')).toMatchObject(
        /\s/.test(name) ? { is: 'fault' } : { to: { any: [`user:${name}`] } },
      )
  })

  test('explains clause by clause what it asked, up to the first case that holds', () => {
    const trigger = new Trigger({
      source: 's',
      to: { any: ["'everyone'"] },
      content: { title: 'T' },
      cases: [
        { when: "row.status == 'cancelled'" },
        { when: 'row.delay >= 15 && !(before.delay >= 15)' },
        { when: 'true' },
      ],
    })
    expect(trigger.explain({ row: { status: 'late', delay: 20 }, before: {} })).toEqual([
      {
        when: "row.status == 'cancelled'",
        holds: false,
        parts: [{ text: 'row.status == "cancelled"', value: '"late"', verdict: false, depth: 0 }],
      },
      {
        when: 'row.delay >= 15 && !(before.delay >= 15)',
        holds: false,
        parts: [
          { text: 'row.delay >= 15', value: '20', verdict: true, depth: 0 },
          { text: '!(before.delay >= 15)', value: 'not there', verdict: null, depth: 0 },
        ],
      },
      { when: 'true', holds: true, parts: [{ text: 'true', value: null, verdict: true, depth: 0 }] },
    ])
  })

  test('explains loops in the words in which they were written', () => {
    const when = 'row.tags.exists(x, x == "a") && row.tags.map(x, x + "!")[0] == "a!"'
    const [asked] = new Trigger({ ...late, when }).explain(now)
    expect(asked?.parts).toEqual([
      { text: 'row.tags.exists(x, x == "a")', value: null, verdict: true, depth: 0 },
      { text: 'row.tags.map(x, x + "!")[0] == "a!"', value: '"a!"', verdict: true, depth: 0 },
    ])
  })

  test('is over when unless holds by then', () => {
    const trigger = new Trigger({ ...late, after: 900, unless: 'gone || row.delay < 5' })
    expect(trigger.isOver(now)).toBe(false)
    expect(trigger.isOver({ row: { delay: 2 } })).toBe(true)
    expect(trigger.isOver({ row: {}, gone: true })).toBe(true)
  })

  test('has no late events: what happens is taken when it is reported', () => {
    const booked = { source: 'occurrences', to: { any: ["'everyone'"] }, content: { title: 'T' } }
    expect(triggerFaults(booked)).toEqual([])
    expect(triggerFaults({ ...booked, late: 'skip', lateAfterSeconds: 60 }).map(({ pointer }) => pointer)).toEqual([
      '/late',
      '/lateAfterSeconds',
    ])
  })

  test('names no column that its source lacks, and gives its template what that asks for and nothing else', () => {
    const around = {
      columns: ['id', 'delay', 'route', 'borrower'],
      templates: { delay: { knows: ['vessel', 'delay', 'pier'], needs: ['vessel', 'delay'] } },
    }
    const sailing: TriggerDefinition = {
      source: 's',
      when: 'row.delay > 5 && before.delay < 5',
      to: { any: ["'user:' + row.borower"] },
      template: 'delay',
      values: { vesel: 'row.id', delay: 'row.delay' },
    }
    expect(triggerFaults(sailing, around).map(({ pointer, says }) => `${pointer} ${says}`)).toEqual([
      '/to/any/0 names a column borower that the source does not have; the nearest is borrower',
      '/values/vesel is no value of the template delay; the nearest is vessel',
      '/values lacks vessel, which the template delay needs',
    ])
    // Where the columns are not known, and the template not there yet, nothing is said of them.
    expect(triggerFaults(sailing)).toEqual([])
    const good = {
      ...sailing,
      to: { any: ["'user:' + row.borrower"] },
      values: { vessel: 'row.id', delay: 'row.delay' },
    }
    expect(triggerFaults(good, around)).toEqual([])
  })

  test('tells each fault at its place', () => {
    expect(triggerFaults(late)).toEqual([])
    const faults = triggerFaults({
      source: 's',
      when: 'row.delay >',
      key: 'sailing.id',
      unless: 'true',
      values: { delay: 'row.' },
      cases: [{ template: 'a', content: { title: 'b' } }, { to: { any: ['user'] } }],
      options: { tag: '1 +' },
    })
    expect(faults.map(({ pointer }) => pointer)).toEqual([
      '/when',
      '/values/delay',
      '/cases/1/to/any/0',
      '/cases/0/to',
      '/cases/0/content',
      '/cases/1/template',
      '/key',
      '/options/tag',
      '/unless',
    ])
  })
})

describe('what a trigger takes to ask', () => {
  const effortOf = (text: string) => new Expression(text).effort

  test('grows with its parts, and has no bound where it loops or matches', () => {
    expect(effortOf('row.delay > 3')).toBeLessThan(effortOf('row.delay > 3 && row.route == 4'))
    for (const text of ['row.tags.map(x, x)', 'row.tags.exists(x, x == "a")', 'row.status.matches("a+")'])
      expect([text, effortOf(text)]).toEqual([text, Number.POSITIVE_INFINITY])
    const trigger = new Trigger({ ...late, key: `row.tags.filter(x, x != "b")[0]` })
    expect(trigger.effort).toBe(Number.POSITIVE_INFINITY)
    expect(new Trigger(late).effort).toBeLessThan(100)
  })

  test('all that a firing says is bounded', () => {
    const long = new Trigger({
      ...late,
      key: undefined,
      options: undefined,
      when: undefined,
      to: { any: ["'everyone'"] },
      values: { text: 'event.data.text' },
    })
    const fired = (chars: number) => long.fire({ ...now, event: { data: { text: 'x'.repeat(chars) } } }, 'k')
    expect(fired(60_000).is).toBe('fires')
    expect(fired(64_001)).toMatchObject({
      is: 'fault',
      says: expect.stringMatching(/^what it says has 64,\d+ characters; 64,000 at most$/),
    })
  })
})

describe('a trigger that hears devices', () => {
  const careful = (to: string, devices: boolean | undefined = true) =>
    triggerWarnings({ source: 'occurrences', devices, content: { title: 'T' }, to: { any: [to] } }).map(
      ({ pointer }) => pointer,
    )

  test('is warned of references that are made of what a device says', () => {
    expect(careful("'user:' + event.data.friend")).toEqual(['/to/any/0'])
    expect(careful("'user:' + string(event.data['friend'])")).toEqual(['/to/any/0'])
    expect(careful("'user:' + event.user")).toEqual([])
    expect(careful("'user:' + event.data.friend", false)).toEqual([])
  })

  test('is one of occurrences', () => {
    expect(triggerFaults({ ...late, devices: true }).map(({ pointer }) => pointer)).toEqual(['/devices'])
  })
})
