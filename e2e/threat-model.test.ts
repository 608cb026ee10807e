import { readdirSync, readFileSync } from 'node:fs'
import { basename } from 'node:path'
import { fileURLToPath } from 'node:url'
import { expect, test } from '@jest/globals'
import { type Operation, operations, type RouteName, routes } from '@zbell/contract'

const path = (inside: string) => fileURLToPath(new URL(`../${inside}`, import.meta.url))

/** The titles in a file of tests; what differs from case to case is `%s`. */
function titlesIn(file: string): string[] {
  const calls = readFileSync(file, 'utf8').matchAll(
    /(?:\btest|\bdescribe|\]|\))\(\s*(?:'((?:[^'\\]|\\.)*)'|`([^`]*)`)/g,
  )
  return [...calls].map(([, plain, template = '']) => plain ?? template.replace(/\$\{[^}]*\}/g, '%s'))
}

/** @param name of a file in `e2e/`, or `package/file` */
function fileOf(name: string): string | undefined {
  const [own = '', room] = name.split('/').reverse()
  const dir = path(room === undefined ? 'e2e' : `packages/${room}/test`)
  const files = readdirSync(dir, { recursive: true, encoding: 'utf8' })
  const found = files.find((one) => basename(one) === `${own}.test.ts`)
  return found && `${dir}/${found}`
}

test('each thing that docs/security.md says is stopped names the tests that show it, by file and title', () => {
  const rows = readFileSync(path('docs/security.md'), 'utf8')
    .split('\n')
    .filter((line) => line.startsWith('| ') && !line.endsWith('| shown by |'))
  expect(rows.length).toBeGreaterThan(30)
  for (const row of rows) {
    const [, what, , shown = ''] = row.split('|').map((cell) => cell.trim())
    const claims = shown.split('<br>').map((claim) => /^`([^`]+)`: (.+)$/.exec(claim) ?? [claim])
    const missing = claims.filter(([, name, title]) => {
      const file = name === undefined ? undefined : fileOf(name)
      return file === undefined || !titlesIn(file).includes(title!)
    })
    expect([what, missing.map(([claim]) => claim)]).toEqual([what, []])
  }
})

test('docs/security.md says of each thing that an app key or a device may call how far that goes', () => {
  const page = readFileSync(path('docs/security.md'), 'utf8')
  const table = page.slice(page.indexOf('### What the app key'), page.indexOf('## Somebody with a key or an account'))
  const callable = (Object.keys(routes) as RouteName[]).filter((name) => {
    const { caller }: Operation = operations[name]
    return caller === 'installed-app' || caller === 'device'
  })
  const missing = callable.filter((name) => {
    const place = routes[name].split(' ')[1]!.replace(/\/\{\w+\}$/, '')
    return !table.includes(place) && !table.includes(place.replace('/v1/devices/me', '…/me'))
  })
  expect([callable.length > 10, missing]).toEqual([true, []])
})
