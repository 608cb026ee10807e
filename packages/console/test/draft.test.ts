import { describe, expect, test } from '@jest/globals'
import type { Notification, Target } from '@zbell/contract'
import { notificationRequest } from '@zbell/contract'
import fc from 'fast-check'
import { targetOfText, textOfTarget } from '../src/target/references.ts'
import { namesIn } from '../src/values/names-in.ts'
import { type Draft, draftLike, emptyDraft, fieldOf, noTexts, requestOf } from '../src/write/draft.ts'

const draft = (more: Partial<Draft>): Draft => ({ ...emptyDraft, ...more })

describe('what stands in the fields', () => {
  test('is asked for as it was written, and what was left empty is not there', () => {
    expect(
      requestOf(
        draft({
          to: {
            any: ['user:ada', 'topic:route-4', 'user:signe'],
            all: [],
            none: ['topic:weather'],
            platforms: ['ios'],
          },
          texts: {
            '': { title: 'Late', subtitle: '', body: 'Berth 2' },
            nb: { ...noTexts, title: 'Forsinket' },
            es: noTexts,
          },
          actions: [{ title: 'Rebook', action: '', navigate: '' }],
          values: { delay: 15, berth: '2' },
          tag: 'sailing-101',
        }),
      ),
    ).toEqual({
      to: { any: ['user:ada', 'topic:route-4', 'user:signe'], none: ['topic:weather'], platforms: ['ios'] },
      content: {
        title: 'Late',
        body: 'Berth 2',
        tag: 'sailing-101',
        actions: [{ title: 'Rebook', action: 'action-1' }],
        perLanguage: { nb: { title: 'Forsinket' } },
      },
      values: { delay: 15, berth: '2' },
      spreadSeconds: 0,
    })
  })

  test('is the same again after it was sent and copied', () => {
    const word = fc.stringMatching(/^[A-Za-z0-9 .,{}"'æøåñ日م]{1,20}$/).filter((text) => text.trim() === text)
    const texts = fc.record({
      title: word,
      subtitle: fc.oneof(fc.constant(''), word),
      body: fc.oneof(fc.constant(''), word),
    })
    const value = fc.oneof(word, fc.integer(), fc.boolean(), fc.constantFrom('15', 'true', '"quoted"', '007'))
    const values = fc.dictionary(fc.stringMatching(/^[a-z]{1,8}$/), value, { noNullPrototype: true })
    const drafts: fc.Arbitrary<Draft> = fc
      .record({
        any: fc.constantFrom<string[]>(['user:ada'], ['topic:route-4', 'user:signe']),
        shared: texts,
        others: fc.dictionary(fc.constantFrom('nb', 'es', 'ja', 'ar'), texts, { noNullPrototype: true }),
        values,
        fallbacks: values,
        platforms: fc.subarray(['ios', 'android', 'web'] as const),
        urgency: fc.constantFrom('low', 'normal', 'high'),
        ttlSeconds: fc.integer({ min: 0, max: 86_400 }),
      })
      .map(({ any, shared, others, platforms, ...more }) =>
        draft({ ...more, to: { any, platforms: [...platforms] }, texts: { '': shared, ...others } }),
      )
    fc.assert(
      fc.property(drafts, (one) => {
        const asked = requestOf(one)
        const sent = { values: {}, fallbacks: {}, ...asked } as unknown as Notification
        expect(requestOf(draftLike(sent))).toEqual(asked)
      }),
    )
  })

  test('keeps of a copy what no field shows', () => {
    const content = {
      title: 'Late',
      accent: '#b08d57',
      data: { sailing: 101 },
      perPlatform: { web: { image: 'https://a.example/1.png' } },
    }
    const sent = {
      to: { any: ['everyone'] },
      content,
      values: {},
      fallbacks: {},
      urgency: 'high',
      ttlSeconds: 60,
      spreadSeconds: 0,
    } as unknown as Notification
    expect(requestOf(draftLike(sent)).content).toEqual(content)
  })

  test('is what the service reads', () => {
    const whole = draft({
      to: { any: ['everyone'] },
      texts: { '': { title: 'Late', subtitle: 'Route 4', body: '{delay} min' } },
      values: { delay: 15 },
    })
    expect(notificationRequest.safeParse(requestOf(whole)).error).toBeUndefined()
    expect(notificationRequest.safeParse(requestOf(emptyDraft)).success).toBe(false)
  })
})

test.each<[string[], ReturnType<typeof namesIn>]>([
  [['Late by {delay} minutes'], [{ name: 'delay', type: 'text' }]],
  [
    ['{delay, number} min', 'at {departs, time, short}'],
    [
      { name: 'delay', type: 'number' },
      { name: 'departs', type: 'instant' },
    ],
  ],
  [['{delay}', '{delay, plural, one {# minute} other {# minutes}}'], [{ name: 'delay', type: 'number' }]],
  [
    ['{pass, select, season {Thank you, {name}} other {Hello}}'],
    [
      { name: 'pass', type: 'text' },
      { name: 'name', type: 'text' },
    ],
  ],
  [["'{'not a name'}' and {pier"], []],
])('the texts %p want %p', (texts, names) => expect(namesIn(texts)).toEqual(names))

test.each<[Target, string]>([
  [{ any: ['user:ada', 'topic:route-4'] }, 'any: user:ada topic:route-4'],
  [
    { any: ['everyone'], none: ['topic:weather'], platforms: ['ios'] },
    'any: everyone\nnone: topic:weather\nplatforms: ios',
  ],
  [{}, ''],
])('the target %p is the text %p, and back', (target, text) => {
  expect(textOfTarget(target)).toBe(text)
  expect(targetOfText(text)).toEqual(target)
})

test('a line without a name belongs to those of whom any is meant', () => {
  expect(targetOfText('user:ada, topic:route-4\nnone: topic:weather')).toEqual({
    any: ['user:ada', 'topic:route-4'],
    none: ['topic:weather'],
  })
})

test.each([
  ['/content/title', 'title'],
  ['/content/perLanguage/nb/body', 'body nb'],
  ['/content/actions/0/navigate', 'actions'],
  ['/to/none/2', 'none'],
  ['/to', 'any'],
  ['/values/delay', 'values'],
  ['/name', 'name'],
  ['/mode', undefined],
])('a fault at %s stands beside %p', (pointer, field) => expect(fieldOf(pointer)).toBe(field))
