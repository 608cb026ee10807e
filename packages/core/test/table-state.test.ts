import { describe, expect, test } from '@jest/globals'
import fc from 'fast-check'
import {
  keyOfRow,
  pageOfKey,
  type Row,
  type RowChange,
  TableRefused,
  TableSnapshot,
  tableLimits,
} from '../src/triggers/index.ts'

const look = (rows: readonly Row[], key = ['id'], watched = ['delay', 'departs']): TableSnapshot => {
  const made = new TableSnapshot(key, watched)
  for (const row of rows) made.see(row)
  return made
}
const changed = (before: readonly Row[], now: readonly Row[]): RowChange[] => {
  const was = look(before)
  const is = look(now)
  return Array.from({ length: tableLimits.pages }, (_, at) => is.changes(was.page(at), is.page(at))).flat()
}
const departs = new Date('2026-11-28T17:45:00Z')
const row = (id: number, more: Row = {}): Row => ({ id, delay: 0, departs, ...more })

describe('a poll of a table', () => {
  test('finds what is new, changed and gone, with its last state', () => {
    expect(changed([row(1), row(2), row(3)], [row(1), row(3, { delay: 15 }), row(4)])).toEqual(
      expect.arrayContaining([
        { key: '3', row: row(3, { delay: 15 }), before: row(3), gone: false },
        { key: '4', row: row(4), before: {}, gone: false },
        { key: '2', row: row(2), before: row(2), gone: true },
      ]),
    )
  })

  test('keeps numbers, truths, NULL and moments as what they are', () => {
    const [change] = changed([], [row(1, { delay: 0.1 })])
    expect(change?.row).toEqual({ id: 1, delay: 0.1, departs })
    expect(change?.row.departs).toBeInstanceOf(Date)
    for (const delay of [null, true, '15', '', '\u0000\n{"at": "x"}', -0.5])
      expect(changed([], [row(1, { delay })])[0]?.row.delay).toBe(delay)
  })

  test('tells the number 1 from the text', () => {
    expect(changed([row(1, { delay: 1 })], [row(1, { delay: '1' })])).toHaveLength(1)
  })

  test('does not care in which order rows come, nor about columns that nobody watches', () => {
    const rows = Array.from({ length: 2_000 }, (_, id) => row(id, { note: `n${id}` }))
    const others = rows.map((one) => ({ ...one, note: 'other' })).reverse()
    expect(changed(rows, others)).toEqual([])
  })

  test('takes names that mean something to the language as columns like any other', () => {
    const own = look([JSON.parse('{"id": 1, "__proto__": "x", "constructor": "y"}') as Row], ['id'], ['constructor'])
    expect(own.changes('', own.page(pageOfKey('1')))[0]?.row).toEqual({ id: 1, constructor: 'y' })
  })

  test('agrees with a plain comparison of any two tables', () => {
    const tables = fc.uniqueArray(
      fc.record({ id: fc.nat(60), delay: fc.oneof(fc.nat(2), fc.constant(null), fc.string()) }),
      {
        selector: ({ id }) => id,
        maxLength: 60,
      },
    )
    fc.assert(
      fc.property(tables, tables, (before, now) => {
        const was = new Map(before.map((one) => [one.id, one]))
        const is = new Map(now.map((one) => [one.id, one]))
        const expected = [
          ...now
            .filter((one) => JSON.stringify(one) !== JSON.stringify(was.get(one.id)))
            .map(({ id }) => `${id} false`),
          ...before.filter(({ id }) => !is.has(id)).map(({ id }) => `${id} true`),
        ]
        const found = changed(
          before.map((one) => row(one.id, { delay: one.delay })),
          now.map((one) => row(one.id, { delay: one.delay })),
        )
        expect(found.map(({ key, gone }) => `${key} ${gone}`).sort()).toEqual(expected.sort())
      }),
    )
  })

  test('refuses in words what it cannot compare', () => {
    const refusal = (rows: readonly Row[], key = ['id']) => {
      try {
        const made = look(rows, key)
        for (let at = 0; at < tableLimits.pages; at++) made.changes('', made.page(at))
        return undefined
      } catch (error) {
        if (error instanceof TableRefused) return error.message
        throw error
      }
    }
    expect(refusal([row(1), row(1, { delay: 2 })])).toBe('has two rows with the key 1')
    expect(refusal([{ delay: 1, departs }])).toBe('has no column id')
    expect(refusal([{ id: 1, delay: 1 }])).toBe('has no column departs')
    expect(refusal([row(1)], ['id', 'delay'])).toBeUndefined()
  })

  test('leaves out rows that it cannot name or hold, says so, and takes the others', () => {
    const texts = Object.fromEntries(Array.from({ length: 5 }, (_, at) => [`t${at}`, 'x'.repeat(4_000)]))
    for (const [bad, says] of [
      [{ id: null, delay: 1, departs }, 'has a row whose id is NULL, so that it has no key'],
      [{ id: 'x'.repeat(201), delay: 1, departs }, 'has a key of 201 characters; 200 at most'],
    ] as const) {
      const made = look([row(1), bad, row(2)])
      expect(made.leftOut).toEqual({ count: 1, says })
      expect([1, 2].map((id) => made.find(made.page(pageOfKey(`${id}`)), `${id}`)?.id)).toEqual([1, 2])
    }
    const deep = (levels: number): unknown => (levels === 0 ? 1 : [deep(levels - 1)])
    expect(look([row(1, { delay: deep(20) as never })]).leftOut).toBeUndefined()
    expect(look([row(1, { delay: deep(5_000) as never })]).leftOut?.says).toBe(
      'has a row nested more than 24 levels deep',
    )
    const wide = look([{ id: 1, ...texts }], ['id'], Object.keys(texts))
    expect(wide.leftOut?.says).toContain('in the watched columns of 1; 16,000 at most')
    expect(look([row(1)]).leftOut).toBeUndefined()
  })

  test('cuts long texts, and finds a change behind the cut all the same', () => {
    const long = 'x'.repeat(1_000_000)
    expect(changed([row(1, { delay: long })], [row(1, { delay: long })])).toEqual([])
    const [change] = changed([row(1, { delay: long })], [row(1, { delay: `${long}y` })])
    expect(change?.row.delay).toBe(`${'x'.repeat(3_999)}…`)
  })

  test('takes rows whose members differ, nested as they are, in whatever order they come', () => {
    const whole = (rows: readonly Row[]) => {
      const made = new TableSnapshot(['id'], undefined)
      for (const one of rows) made.see(one)
      return made
    }
    const place = { berth: 2, at: 'pier' }
    const was = whole([{ id: 1, place, tags: ['a'] }, { id: 2 }])
    const same = whole([{ id: 2 }, { tags: ['a'], place: { at: 'pier', berth: 2 }, id: 1 }])
    const is = whole([{ id: 1, place: { ...place, berth: 3 }, tags: ['a'] }])
    const page = pageOfKey('1')
    expect(same.changes(was.page(page), same.page(page))).toEqual([])
    expect(is.changes(was.page(page), is.page(page))).toEqual([
      {
        key: '1',
        row: { id: 1, place: { at: 'pier', berth: 3 }, tags: ['a'] },
        before: { id: 1, place, tags: ['a'] },
        gone: false,
      },
    ])
  })

  test('refuses more text than it can compare, also when all of it falls into one page', () => {
    const text = 'x'.repeat(3_900)
    const many = (count: number, keyOf: (n: number) => string) =>
      look(
        Array.from({ length: count }, (_, n) => ({ id: keyOf(n), delay: text, departs: null })),
        ['id'],
        ['delay'],
      )
    expect(() => many(8_300, String)).toThrow('has more than 32,000,000 characters in its watched columns')
    const alike = Array.from({ length: 300_000 }, (_, n) => String(n)).filter((key) => pageOfKey(key) === 0)
    expect(() => many(1_030, (n) => alike[n]!)).toThrow('has more than 32,000,000 characters')
    expect(many(1_000, (n) => alike[n]!).rows).toBe(1_000)
  })

  test('refuses a table of more rows than it compares', () => {
    const made = new TableSnapshot(['id'], [])
    for (let id = 0; id < tableLimits.rows; id++) made.see({ id })
    expect(made.rows).toBe(200_000)
    expect(() => made.see({ id: -1 })).toThrow('has more than 200,000 rows; read it by a cursor instead')
  })

  test('names rows by several columns so that no two names are alike', () => {
    expect(keyOfRow({ a: 'x', b: 1 }, ['a', 'b'])).not.toBe(keyOfRow({ a: 'x","1', b: '' }, ['a', 'b']))
    expect(keyOfRow({ a: departs }, ['a'])).toBe('2026-11-28T17:45:00.000Z')
  })

  test('spreads keys over its pages', () => {
    const counts = new Array<number>(tableLimits.pages).fill(0)
    for (let id = 0; id < 100_000; id++) counts[pageOfKey(String(id))]! += 1
    expect(Math.max(...counts)).toBeLessThan(2 * (100_000 / tableLimits.pages))
  })
})
