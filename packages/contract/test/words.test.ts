import { fileURLToPath } from 'node:url'
import { describe, expect, test } from '@jest/globals'
import { build } from 'esbuild'
import { reachOf, sayValue, span } from '../src/words/index.ts'

test('what puts things in words brings no library along into the pages that use it', async () => {
  const { metafile } = await build({
    entryPoints: [fileURLToPath(new URL('../src/words/index.ts', import.meta.url))],
    bundle: true,
    format: 'esm',
    write: false,
    metafile: true,
    logLevel: 'error',
  })
  const inputs = Object.values(metafile.outputs).flatMap((output) =>
    Object.entries(output.inputs).flatMap(([file, { bytesInOutput }]) => (bytesInOutput > 0 ? [file] : [])),
  )
  expect(inputs.filter((file) => file.endsWith('people/attributes.ts'))).toHaveLength(1)
  expect(inputs.filter((file) => file.includes('node_modules'))).toEqual([])
})

describe('whether a device can be rung', () => {
  const good = { retiredAt: null, retiredReason: null, permission: 'granted', muted: false, rehearsal: false } as const
  test.each<[string, Partial<Parameters<typeof reachOf>[0]>]>([
    ['reachable', {}],
    ['retired', { retiredAt: '2026-11-27T08:00:00.000Z', retiredReason: 'token-gone', muted: true }],
    ['denied', { permission: 'denied', muted: true }],
    ['not asked', { permission: 'prompt' }],
    ['muted', { muted: true, rehearsal: true }],
    ['rehearses', { rehearsal: true }],
  ])('is told as %s, each for itself', (word, facts) => {
    const { why, ...look } = reachOf({ ...good, ...facts })
    expect(look.word).toBe(word)
    expect(why === undefined).toBe(word === 'reachable')
  })
})

test.each<[string, number]>([
  ['0.4 ms', 0.4],
  ['140 ms', 140],
  ['12.0 s', 12_000],
  ['5 min', 300_000],
  ['2.5 h', 9_000_000],
])('%s is how %d ms are told', (says, ms) => expect(span(ms)).toBe(says))

test.each<[string, Parameters<typeof sayValue>[0]]>([
  ['Lantern Quay', 'Lantern Quay'],
  ['12', 12],
  ['false', false],
  ['5.32,60.39', { longitude: 5.32, latitude: 60.39 }],
  ['–', null],
])('%s is how a value is told', (says, value) => expect(sayValue(value)).toBe(says))
