import { execFileSync } from 'node:child_process'
import { readFileSync } from 'node:fs'
import { fileURLToPath } from 'node:url'
import { expect, test } from '@jest/globals'
import { dist } from './harness/programs.ts'

const file = (path: string) => fileURLToPath(new URL(`../${path}`, import.meta.url))
/** Licences under which somebody else’s code may ship within ours. */
const welcome = new Set([
  '0BSD',
  'Apache-2.0',
  'BSD-2-Clause',
  'BSD-3-Clause',
  'BlueOak-1.0.0',
  'ISC',
  'MIT',
  'MPL-2.0',
])

test('docs/dependencies.md says what is needed when the programs run, direct and indirect', () => {
  const made = execFileSync(process.execPath, [
    '--input-type=module',
    '-e',
    `import { dependenciesPage } from ${JSON.stringify(file('tools/dependencies.mjs'))}; process.stdout.write(dependenciesPage())`,
  ]).toString()
  expect(readFileSync(file('docs/dependencies.md'), 'utf8')).toBe(made)
  const rows = made.split('\n').filter((line) => line.startsWith('| ') && !line.startsWith('| package'))
  expect(rows.length).toBeGreaterThan(100)
  for (const row of rows) {
    const [, name, , licence = ''] = row.split('|').map((cell) => cell.trim())
    // Of several that one may choose from, one is enough; where all hold, all have to be welcome.
    const choices = licence.replace(/[()]/g, '').split(' OR ')
    const isWelcome = choices.some((choice) => choice.split(' AND ').every((one) => welcome.has(one)))
    expect([name, licence, isWelcome]).toEqual([name, licence, true])
  }
})

test('each bundle carries the notices of what is in it', () => {
  const titles = (path: string) =>
    readFileSync(dist + path, 'utf8')
      .split(/^-{70,}$/m)
      .map((one) => one.trim().split('\n')[0]!.split(' ')[0])
  expect(titles('notices.txt')).toEqual(
    expect.arrayContaining(['express', 'zod', 'drizzle-orm', 'mysql2', 'node-forge', 'pg', 'jsonata']),
  )
  expect(titles('console/notices.txt')).toEqual(expect.arrayContaining(['react', 'react-dom', 'zod', 'tailwindcss']))
  // The kit goes into apps, and brings nothing of others.
  expect(titles('passenger/notices.txt')).toEqual([''])
})
