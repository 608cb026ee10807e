import { existsSync, readFileSync } from 'node:fs'
import { fileURLToPath } from 'node:url'
import { expect, test } from '@jest/globals'

const file = (path: string) => fileURLToPath(new URL(`../${path}`, import.meta.url))

test('each thing that docs/security.md says is stopped names a test that is there', () => {
  const rows = readFileSync(file('docs/security.md'), 'utf8')
    .split('\n')
    .filter((line) => line.startsWith('| ') && !/\| shown by \|$/.test(line))
  expect(rows.length).toBeGreaterThan(30)
  for (const row of rows) {
    const [, what, , shown = ''] = row.split('|').map((cell) => cell.trim())
    const tests = [...shown.matchAll(/`([^`]+)`/g)].map(([, name = '']) => {
      const [room, own] = name.includes('/') ? name.split('/') : [undefined, name]
      return room === undefined ? `e2e/${own}.test.ts` : `packages/${room}/test/${own}.test.ts`
    })
    expect([what, tests.length > 0, tests.filter((one) => !existsSync(file(one)))]).toEqual([what, true, []])
  }
})
