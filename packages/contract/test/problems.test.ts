import { readFileSync } from 'node:fs'
import { expect, test } from '@jest/globals'
import { reasons } from '@zbell/core'
import { problems, problemType } from '../src/index.ts'

const docs = readFileSync(new URL('../../../docs/problems.md', import.meta.url), 'utf8')
const listed = (heading: string) => {
  const section = docs.split(`## ${heading}`)[1]?.split('\n## ')[0] ?? ''
  return [...section.matchAll(/^\| `([a-z-]+)` \|/gm)].map(([, code]) => code)
}

test('the documentation lists every problem, and no other', () => {
  expect(listed('Problems').sort()).toEqual(Object.keys(problems).sort())
})

test('the documentation lists every reason, and no other', () => {
  expect(listed('Reasons').sort()).toEqual(Object.keys(reasons).sort())
})

test('a problem says what is wrong and what to do, each as a sentence', () => {
  for (const { title, remedy, status } of Object.values(problems)) {
    expect(title).toMatch(/^[A-Z].*\.$/)
    expect(remedy).toMatch(/^[A-Z].*\.$/)
    expect(status).toBeGreaterThanOrEqual(400)
  }
  expect(problemType('unknown-key')).toBe('urn:zephyr-bell:problem:unknown-key')
})
