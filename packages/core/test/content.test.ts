import { describe, expect, test } from '@jest/globals'
import {
  type Content,
  directionOf,
  isRightToLeft,
  languageChain,
  layered,
  MalformedText,
  MessageText,
  type Platform,
  Renderer,
  sampleTexts,
  spreadPlan,
  templateFaults,
  textFaults,
  type Values,
  type Writing,
  warningsFor,
  withTags,
} from '@zbell/core'
import fc from 'fast-check'

const reader = (more: Partial<{ platform: Platform; language: string; timeZone: string; values: Values }> = {}) => ({
  platform: 'ios' as Platform,
  language: undefined,
  timeZone: undefined,
  values: {},
  ...more,
})

const contentOf = (renderer: Renderer, more: Parameters<typeof reader>[0] = {}): Content => {
  const rendered = renderer.render(reader(more))
  if (rendered.is !== 'rendered') throw new Error(rendered.says)
  return rendered.content
}

describe('languages', () => {
  test.each([
    ['nb-NO', ['nb-no', 'nb']],
    ['zh-Hant-TW', ['zh-hant-tw', 'zh-hant', 'zh']],
    ['en-x-pirate', ['en-x-pirate', 'en']],
    ['de_AT', ['de-at', 'de']],
  ])('%s falls back', (tag, chain) => {
    expect(languageChain(tag)).toEqual(chain)
  })
  test('know which way they are written', () => {
    expect(['ar', 'he-IL', 'fa', 'az-Arab', 'ar-Latn', 'nb', 'ja'].map(isRightToLeft)).toEqual([
      true,
      true,
      true,
      true,
      false,
      false,
      false,
    ])
    expect(['Kittiwake', '12 عاصفة', '12:45', 'سالتمير'].map(directionOf)).toEqual(['ltr', 'rtl', undefined, 'rtl'])
  })
})

describe('layers', () => {
  const writing: Writing = {
    title: 'shared',
    body: 'shared body',
    perLanguage: { nb: { title: 'norsk' }, 'zh-Hant': { title: '中文' } },
    perPlatform: { web: { body: 'web body', perLanguage: { nb: { body: 'norsk web' } } } },
  }
  test.each<[Platform, string | undefined, string, string]>([
    ['ios', undefined, 'shared', 'shared body'],
    ['ios', 'nb-NO', 'norsk', 'shared body'],
    ['ios', 'sv', 'shared', 'shared body'],
    ['ios', 'zh-hant-TW', '中文', 'shared body'],
    ['web', 'nb', 'norsk', 'norsk web'],
    ['web', 'zh-Hant', '中文', 'web body'],
  ])('%s in %s', (platform, language, title, body) => {
    expect(layered(writing, platform, language)).toMatchObject({ title, body })
  })
  test('what stands in for a value is said in the language of the texts, where that has its own', () => {
    const renderer = new Renderer(
      {
        title: '{pier}',
        perLanguage: { nb: { title: 'Fra {pier}', fallbacks: { pier: 'bryggen' } }, de: { body: 'x' } },
      },
      { fallbacks: { pier: 'your pier' } },
    )
    const titleIn = (language: string, values = {}) => {
      const rendered = renderer.render({ platform: 'ios', language, timeZone: undefined, values })
      return rendered.is === 'rendered' && [rendered.content.title, 'fallbacks' in rendered.content]
    }
    expect(titleIn('nb-NO')).toEqual(['Fra bryggen', false])
    expect(titleIn('de')).toEqual(['your pier', false])
    expect(titleIn('nb', { pier: 'Saltmere' })).toEqual(['Fra Saltmere', false])
  })
  test('a language that is found is the one that the text is marked with', () => {
    expect(layered(writing, 'ios', 'nb-NO').lang).toBe('nb')
    expect(layered(writing, 'ios', 'sv').lang).toBeUndefined()
  })
})

describe('texts', () => {
  test('without places stay as they are, byte for byte', () => {
    fc.assert(
      fc.property(fc.string({ unit: 'grapheme' }), (text) => {
        fc.pre(!/[{}'#]/.test(text))
        expect(new MessageText(text).render({}, 'en', 'UTC', 'ltr')).toBe(text)
      }),
    )
  })
  test('choose plurals by their language', () => {
    const text = new MessageText('{n, plural, one {# båt} other {# båter}}')
    expect([1, 2, 0].map((n) => text.render({ n }, 'nb', 'UTC', 'ltr'))).toEqual(['1 båt', '2 båter', '0 båter'])
    const arabic = new MessageText('{n, plural, one {سفينة} two {سفينتان} few {# سفن} other {# سفينة}}')
    expect([1, 2, 3].map((n) => arabic.render({ n }, 'ar', 'UTC', 'rtl'))).toEqual([
      'سفينة',
      'سفينتان',
      expect.stringMatching(/سفن$/),
    ])
  })
  test('show moments in the reader’s own zone', () => {
    const text = new MessageText('{at, time, short}')
    const at = '2026-11-23T17:45:00Z'
    expect(text.render({ at }, 'en-GB', 'Europe/Oslo', 'ltr')).toBe('18:45')
    expect(text.render({ at }, 'en-GB', 'Asia/Tokyo', 'ltr')).toBe('02:45')
  })
  test('isolate a value that runs the other way, and no other', () => {
    const text = new MessageText('{vessel}')
    expect(text.render({ vessel: 'Kittiwake' }, 'ar', 'UTC', 'rtl')).toBe('\u2068Kittiwake\u2069')
    expect(text.render({ vessel: 'Kittiwake' }, 'en', 'UTC', 'ltr')).toBe('Kittiwake')
    expect(text.render({ vessel: '12' }, 'ar', 'UTC', 'rtl')).toBe('12')
  })
  test.each(['{', '{}', '{a b}', '{n, plural}', '{n, plural, one {x}}', '{n, nothing}', '{n, select, a {x}}'])(
    '%s is refused with a place and a way out',
    (text) => {
      expect(() => new MessageText(text)).toThrow(MalformedText)
      expect(() => new MessageText(text)).toThrow(/MessageFormat.*; a brace/s)
    },
  )
  test.each([
    ['{n, number, ::unit/foo}', /style/],
    ['{n, number, ::currency/ZZ}', /style/],
    [`{n, number, ::.${'0'.repeat(150)}}`, /style|MessageFormat/],
    ['{a, select, other {{n, plural, other {{m, number, ::currency/ZZ}}}}}', /style/],
    ['{n, number, ::scale/x}', /style|MessageFormat|NaN/],
  ])('%s, which can be read and in which nothing can be written, is refused where it is written', (text, says) => {
    let refused: unknown
    try {
      const read = new MessageText(text)
      // What is taken can be written out.
      const values = Object.fromEntries([...read.uses.keys()].map((name) => [name, 1]))
      expect(typeof read.render(values, 'en', 'UTC', 'ltr')).toBe('string')
      return
    } catch (error) {
      refused = error
    }
    expect(refused).toBeInstanceOf(MalformedText)
    expect((refused as Error).message).toMatch(says)
  })
  test('a text that an earlier version took is shown as it was written', () => {
    expect(sampleTexts({ title: '{n, number, ::currency/ZZ}' }, { values: { n: 1 } }).title).toBe(
      '{n, number, ::currency/ZZ}',
    )
  })
  test('any text is read or refused in words, quickly', () => {
    const bits = fc.array(fc.constantFrom('{', '}', "'", '#', 'a', ', plural, ', 'other ', ' ', '__proto__'), {
      maxLength: 40,
    })
    fc.assert(
      fc.property(bits, (parts) => {
        try {
          const text = new MessageText(parts.join(''))
          const values = Object.fromEntries([...text.uses.keys()].map((name) => [name, 1]))
          expect(typeof text.render(values, 'en', 'UTC', 'ltr')).toBe('string')
        } catch (error) {
          expect((error as Error).name).toBe('MalformedText')
        }
      }),
    )
  })
  test('choices in choices have an end', () => {
    const deep = (n: number): string => (n === 0 ? 'x' : `{a, select, other {${deep(n - 1)}}}`)
    expect(() => new MessageText(deep(5))).not.toThrow()
    expect(() => new MessageText(deep(8))).toThrow(/deep/)
    expect(() => new MessageText('{a}'.repeat(201))).toThrow(/200 places/)
  })
  test('every faulty one of a writing is found, with its place', () => {
    const writing: Writing = {
      title: '{',
      perLanguage: { nb: { body: '}{' } },
      perPlatform: { web: { actions: [{ action: 'a', title: '{x,}' }], perLanguage: { ar: { title: '{' } } } },
    }
    expect(textFaults(writing).map(({ pointer }) => pointer)).toEqual([
      '/title',
      '/perLanguage/nb/body',
      '/perPlatform/web/actions/0/title',
      '/perPlatform/web/perLanguage/ar/title',
    ])
  })
})

describe('rendering', () => {
  test('takes values from the sending, then the person, then the fallbacks', () => {
    const renderer = new Renderer(
      { title: '{a} {b} {c}' },
      { values: { a: 'sending' }, fallbacks: { a: 'x', b: 'x', c: 'fallback' } },
    )
    expect(contentOf(renderer, { values: { a: 'person', b: 'person' } }).title).toBe('sending person fallback')
    expect([...renderer.personal].sort()).toEqual(['b', 'c'])
  })
  test('says which value is missing, and which does not fit', () => {
    const renderer = new Renderer({ title: '{delay, number} {at, date}' }, { values: { at: '2026-11-23T00:00:00Z' } })
    expect(renderer.render(reader())).toMatchObject({ is: 'missing', value: 'delay', says: 'has no “delay”' })
    expect(renderer.render(reader({ values: { delay: 'soon' } }))).toMatchObject({ is: 'missing', value: 'delay' })
  })
  test('escapes values in addresses, and only there', () => {
    const renderer = new Renderer({ title: '{pier}', navigate: '/piers/{pier}' }, { values: { pier: 'a/b ?c' } })
    expect(contentOf(renderer)).toMatchObject({ title: 'a/b ?c', navigate: '/piers/a%2Fb%20%3Fc' })
  })
  test('makes what many readers share once, and names it alike', () => {
    const renderer = new Renderer({ title: '{pier}' })
    const [one, two, other] = ['Saltmere', 'Saltmere', 'Gull Point'].map((pier) =>
      renderer.render(reader({ values: { pier } })),
    )
    expect(one).toBe(two)
    expect(one).not.toBe(other)
  })
  test('marks a right-to-left text as such, unless the writer said otherwise', () => {
    const writing: Writing = { title: 'x', perLanguage: { ar: { title: 'عاصفة' } } }
    expect(contentOf(new Renderer(writing), { language: 'ar' }).dir).toBe('rtl')
    expect(contentOf(new Renderer({ ...writing, dir: 'ltr' }), { language: 'ar' }).dir).toBe('ltr')
  })
  test('a value named like a part of every object is only a value', () => {
    const renderer = new Renderer({ title: '{constructor} {toString}' })
    expect(renderer.render(reader())).toMatchObject({ is: 'missing' })
    expect(contentOf(renderer, { values: { constructor: 'a', toString: 'b' } as never }).title).toBe('a b')
  })
})

describe('warnings', () => {
  test('tell what a platform cuts or does not draw', () => {
    const content: Content = {
      title: 'x'.repeat(60),
      subtitle: 's',
      sound: 'horn',
      image: 'http://ferries.example/a.bmp',
      actions: ['a', 'b', 'c'].map((action) => ({ action, title: action })),
    }
    expect(warningsFor(content, 'web').map(({ field }) => field)).toEqual([
      'title',
      'actions',
      'image',
      'sound',
      'subtitle',
    ])
    expect(warningsFor({ title: 'short' }, 'ios')).toEqual([])
  })
})

describe('a spread', () => {
  test('is over in its time, in blocks about a second apart, each device once', () => {
    fc.assert(
      fc.property(fc.integer({ min: 1, max: 86_400 }), fc.integer({ min: 1, max: 2_000_000 }), (seconds, devices) => {
        const { size, dueMs } = spreadPlan(seconds, devices, 2_000)
        expect(size).toBeGreaterThanOrEqual(1)
        expect(size).toBeLessThanOrEqual(2_000)
        expect(dueMs(0)).toBe(0)
        expect(dueMs(devices - 1)).toBeLessThan(seconds * 1_000)
        expect(dueMs(size) - dueMs(0)).toBeLessThanOrEqual(Math.max(1_000, (seconds * 1_000) / devices) + 1_000)
      }),
    )
  })
  test('of nothing is at once', () => {
    expect(spreadPlan(0, 10, 2_000).size).toBe(2_000)
    expect(spreadPlan(0, 10, 2_000).dueMs(5)).toBe(0)
  })
})

describe('a template', () => {
  const declares = { sailing: { type: 'number' }, pier: { type: 'text', ofPerson: true } } as const
  test.each([
    ['sailing-{sailing}', { sailing: 101 }, 'sailing-101'],
    ['late', {}, 'late'],
    ['{sailing}_{sailing}', { sailing: 7 }, '7_7'],
  ])('with the tag %p and %p is sent with %p, on each platform', (tag, values, filled) => {
    const writing = { title: 'T', tag, perPlatform: { web: { tag } } }
    expect(withTags(writing, { values })).toEqual({ title: 'T', tag: filled, perPlatform: { web: { tag: filled } } })
  })
  test.each([[{ sailing: 'two words' }], [{ sailing: 'x'.repeat(40) }], [{}]])('cannot make a tag of %p', (values) => {
    expect(withTags({ title: 'T', tag: '{sailing}' }, { values })).toMatchObject({ name: 'sailing' })
  })
  test('has no tag of a person’s value, and fallbacks of the declared types in each language', () => {
    const says = (writing: Writing) => templateFaults(writing, declares).map(({ says }) => says)
    expect(says({ title: 'T', tag: '{sailing}' })).toEqual([])
    expect(says({ title: 'T', tag: '{pier}' })).toEqual(['is of each person, and a tag is the same for everybody'])
    expect(says({ title: 'T', tag: '{boat}' })).toEqual(['is named by a text and not declared'])
    const nb = (fallbacks: Values): Writing => ({ title: 'T', perLanguage: { nb: { fallbacks } } })
    expect(says(nb({ pier: 'bryggen' }))).toEqual([])
    expect(says(nb({ pier: 7, boat: 'x' }))).toEqual([
      'has a fallback that is no text',
      'has a fallback and is not declared',
    ])
  })
})
