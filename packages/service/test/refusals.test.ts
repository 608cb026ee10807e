import { readFileSync } from 'node:fs'
import { expect, test } from '@jest/globals'
import { refusals } from '../src/credentials/refusals.ts'

test('the documentation lists every refusal of a credential, and no other', () => {
  const docs =
    readFileSync(new URL('../../../docs/credentials.md', import.meta.url), 'utf8').split('## Refusals')[1] ?? ''
  const listed = docs
    .split('\n')
    .filter((line) => line.startsWith('| `'))
    .flatMap((line) => [...line.split('|')[1]!.matchAll(/`([a-z-]+)`/g)].map(([, word]) => word))
  expect(listed.sort()).toEqual(Object.keys(refusals).sort())
  for (const { says, does } of Object.values(refusals)) {
    expect(says).toMatch(/^[A-Z].*\.$/)
    expect(does).toMatch(/^[A-Z].*\.$/)
  }
})
