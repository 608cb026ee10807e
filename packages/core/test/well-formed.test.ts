import { expect, test } from '@jest/globals'
import { beginningOf, hasLoneSurrogate, wellFormedJson } from '@zbell/core'
import fc from 'fast-check'

const ferry = '⛴'
const wave = '🌊'
const wellFormed = (text: string) => text.replace(/\p{Cs}/gu, '\uFFFD')

test('a cut splits no surrogate pair', () => {
  expect(beginningOf(`ab${wave}`, 3)).toBe('ab')
  expect(beginningOf(`ab${wave}`, 4)).toBe(`ab${wave}`)
  expect(beginningOf(`ab${ferry}c`, 3)).toBe(`ab${ferry}`)
  fc.assert(
    fc.property(fc.string({ unit: 'grapheme' }), fc.nat(20), (text, most) => {
      const begins = beginningOf(text, most)
      expect([hasLoneSurrogate(begins), text.startsWith(begins), begins.length <= most]).toEqual([false, true, true])
    }),
  )
})

test('a lone surrogate is told from a pair', () => {
  expect([`${wave}`, 'a\ud83d', '\ude00b', '\ud83d\ud83d'].map(hasLoneSurrogate)).toEqual([false, true, true, true])
})

test('JSON of any texts parses to the same, with lone surrogates replaced', () => {
  const whole = (value: unknown): unknown =>
    typeof value === 'string'
      ? wellFormed(value)
      : Array.isArray(value)
        ? value.map(whole)
        : typeof value === 'object' && value !== null
          ? Object.fromEntries(Object.entries(value).map(([name, own]) => [wellFormed(name), whole(own)]))
          : value
  expect(wellFormedJson({ 'a\ud83d': ['\\ud83d', '\\\ud83d', `${wave}\ude00`] })).toBe(
    `{"a\uFFFD":["\\\\ud83d","\\\\\uFFFD","${wave}\uFFFD"]}`,
  )
  fc.assert(
    fc.property(
      fc.array(fc.string({ unit: fc.constantFrom('a', '\\', '"', '\ud83d', '\ude00', 'u', 'd83d') })),
      (texts) => {
        expect(JSON.parse(wellFormedJson(texts))).toEqual(whole(texts))
      },
    ),
  )
})
