import { expect, test } from '@jest/globals'
import { noRows, type RuleRow, rowsOfRule, ruleOfRows } from '../src/rules/rule-rows.ts'

const rowsIn = (text: string): readonly RuleRow[] => rowsOfRule(text)!.rows
const all = (...rows: RuleRow[]) => ruleOfRows({ ...noRows, rows })

test.each<[string, RuleRow]>([
  ['user.pass == "season"', fact('pass', '==', { is: 'text', text: 'season' })],
  ['user["home-pier"] != "Saltmere"', fact('home-pier', '!=', { is: 'text', text: 'Saltmere' })],
  ['user.trips >= 3', fact('trips', '>=', { is: 'number', number: 3 })],
  ['user.crew', fact('crew', '==', { is: 'boolean', yes: true })],
  ['!user.crew', fact('crew', '==', { is: 'boolean', yes: false })],
  ['user.ends < now + duration("336h")', fact('ends', '<', { is: 'ahead', duration: '336h' })],
  ['user.ends < now - duration("24h")', fact('ends', '<', { is: 'ago', duration: '24h' })],
  ['user.ends > timestamp("2026-11-27T18:00:00Z")', fact('ends', '>', { is: 'instant', text: '2026-11-27T18:00:00Z' })],
  ['user.pier in ["Saltmere", "North Quay"]', fact('pier', 'in', { is: 'list', of: ['Saltmere', 'North Quay'] })],
  ['user.pier.startsWith("Salt")', fact('pier', 'startsWith', { is: 'text', text: 'Salt' })],
  ['!user.pier.contains("mere")', { ...fact('pier', 'contains', { is: 'text', text: 'mere' }), not: true }],
  ['has(user.pass)', fact('pass', 'known', undefined)],
  ['!("home-pier" in user)', { ...fact('home-pier', 'known', undefined), not: true }],
  [
    'version(device.appVersion) < version("4.2.0")',
    { ...fact('appVersion', '<', { is: 'version', text: '4.2.0' }), of: 'device' },
  ],
  [
    'last("example.booked") < now - duration("720h")',
    { ...fact('example.booked', '<', { is: 'ago', duration: '720h' }), of: 'last' },
  ],
  [
    'count("example.searched", duration("168h")) >= 3',
    { is: 'times', what: 'happened', event: 'example.searched', how: '>=', times: 3, within: '168h' },
  ],
  ['opened(duration("168h")) == 0', { is: 'times', what: 'opened', event: '', how: '==', times: 0, within: '168h' }],
  ['follows("route-4")', { is: 'named', what: 'follows', name: 'route-4', not: false }],
  ['!segment("commuters")', { is: 'named', what: 'segment', name: 'commuters', not: true }],
  ['reached("storm")', { is: 'named', what: 'reached', name: 'storm', not: false }],
  [
    'near(user.lives, 5.32, 60.39, 2000)',
    { is: 'near', place: 'lives', longitude: 5.32, latitude: 60.39, metres: 2_000, not: false },
  ],
])('%s is one row, and is written as it was', (text, row) => {
  expect(rowsIn(text)).toEqual([row])
  expect(all(row)).toBe(text)
})

function fact(name: string, how: (RuleRow & { is: 'fact' })['how'], value: (RuleRow & { is: 'fact' })['value']) {
  return { is: 'fact', of: 'user', name, how, value, not: false } as const
}

test('a value on the left is turned about', () => {
  expect(all(...rowsIn('3 < user.trips'))).toBe('user.trips > 3')
})

test('what holds together stands in one group, and groups lie in one another', () => {
  const text = 'user.pass == "season" && (follows("route-4") || follows("route-7")) && !(user.crew && user.trips > 3)'
  const rows = rowsIn(text)
  expect(rows.map((row) => row.is)).toEqual(['fact', 'group', 'group'])
  expect(rows[1]).toMatchObject({ how: 'any', not: false })
  expect(rows[2]).toMatchObject({ how: 'all', not: true })
  expect(all(...rows)).toBe(text)
})

test.each([
  ['user.trips * 2 > 10', 'a calculation'],
  ['user.pier == user["home-pier"]', 'two facts'],
  ['count("example.booked", duration("720h"), o, o.data.price > 20) > 0', 'a condition on what happened'],
  ['(user.crew ? 1 : 2) > 1', 'a choice'],
  ['size(user.pier) > 3', 'a size'],
])('%s stays text: %s', (text) => {
  const [row, ...more] = rowsIn(text)
  expect(row?.is).toBe('text')
  expect(more).toEqual([])
})

test('text that would fall apart beside others gets brackets', () => {
  expect(all(fact('crew', '==', { is: 'boolean', yes: true }), { is: 'text', rule: 'user.a || user.b' })).toBe(
    'user.crew && (user.a || user.b)',
  )
  expect(all({ is: 'text', rule: 'user.a || user.b' })).toBe('user.a || user.b')
})

test('a row that lacks something says nothing yet', () => {
  expect(
    all(
      fact('', '==', { is: 'text', text: '' }),
      { is: 'named', what: 'follows', name: '', not: false },
      { is: 'times', what: 'happened', event: 'example.booked', how: '>=', times: Number.NaN, within: '24h' },
      { is: 'times', what: 'rung', event: '', how: '>=', times: 1, within: 'soon' },
      { is: 'near', place: 'lives', longitude: Number.NaN, latitude: 1, metres: 1, not: false },
      { ...noRows, rows: [] },
    ),
  ).toBe('')
})

test('texts come through with quotes, letters of any script and what looks like a rule', () => {
  for (const text of ['"', '\\', 'a\nb', 'Fähre', '渡し船', '" || true || "', '__proto__']) {
    const row = fact('pier', '==', { is: 'text', text })
    expect(rowsIn(all(row))).toEqual([row])
  }
})

test('nothing written is no rows, and what cannot be read is none at all', () => {
  expect(rowsOfRule('  ')).toEqual(noRows)
  expect(rowsOfRule('user.pass == ')).toBeUndefined()
  expect(rowsOfRule('('.repeat(4_000))).toBeUndefined()
})
