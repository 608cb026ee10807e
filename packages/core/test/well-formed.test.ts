import { expect, test } from '@jest/globals'
import { beginningOf, hasHalves, wholeJson, wholeText } from '@zbell/core'
import fc from 'fast-check'

const ferry = '⛴'
const wave = '🌊'

test('no character is cut in two', () => {
  expect(beginningOf(`ab${wave}`, 3)).toBe('ab')
  expect(beginningOf(`ab${wave}`, 4)).toBe(`ab${wave}`)
  expect(beginningOf(`ab${ferry}c`, 3)).toBe(`ab${ferry}`)
  fc.assert(
    fc.property(fc.string({ unit: 'grapheme' }), fc.nat(20), (text, most) => {
      const begins = beginningOf(text, most)
      expect([hasHalves(begins), text.startsWith(begins), begins.length <= most]).toEqual([false, true, true])
    }),
  )
})

test('half a character is said to be one, and replaced', () => {
  expect([`${wave}`, 'a\ud83d', '\ude00b', '\ud83d\ud83d'].map(hasHalves)).toEqual([false, true, true, true])
  expect(wholeText(`a\ud83d${wave}`)).toBe(`a\uFFFD${wave}`)
})

test('JSON of whatever texts is read again as it was, but for halves', () => {
  const whole = (value: unknown): unknown =>
    typeof value === 'string'
      ? wholeText(value)
      : Array.isArray(value)
        ? value.map(whole)
        : typeof value === 'object' && value !== null
          ? Object.fromEntries(Object.entries(value).map(([name, own]) => [wholeText(name), whole(own)]))
          : value
  expect(wholeJson({ 'a\ud83d': ['\\ud83d', '\\\ud83d', `${wave}\ude00`] })).toBe(
    `{"a\uFFFD":["\\\\ud83d","\\\\\uFFFD","${wave}\uFFFD"]}`,
  )
  fc.assert(
    fc.property(
      fc.array(fc.string({ unit: fc.constantFrom('a', '\\', '"', '\ud83d', '\ude00', 'u', 'd83d') })),
      (texts) => {
        expect(JSON.parse(wholeJson(texts))).toEqual(whole(texts))
      },
    ),
  )
})
