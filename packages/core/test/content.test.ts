import { describe, expect, test } from '@jest/globals'
import fc from 'fast-check'
import { dataFault, declarativeMessage, isUserName, parseReference, textFault } from '../src/index.ts'

describe('text for a screen', () => {
  test.each(['Storm tonight', 'to\tbe\ncontinued', '海が荒れています', 'العاصفة', '🔔'])('%p may be shown', (text) => {
    expect(textFault(text)).toBeUndefined()
  })
  test.each([
    ['nul\u0000', /U\+0000 at position 3/],
    ['\u001b[31m', /U\+001B at position 0/],
    ['half \ud800', /half of a surrogate pair at position 5/],
    ['\udc00\ud800', /half of a surrogate pair at position 0/],
  ])('%p may not', (text, says) => {
    expect(textFault(text)).toMatch(says)
  })
  test('whatever passes survives UTF-8', () => {
    fc.assert(
      fc.property(fc.string({ unit: 'binary' }), (text) => {
        if (textFault(text) === undefined) expect(Buffer.from(text, 'utf8').toString('utf8')).toBe(text)
      }),
    )
  })
})

describe('data', () => {
  test('plain JSON passes', () => {
    expect(dataFault({ sailing: 101, stops: [{ pier: 'Saltmere' }], late: null }, 8)).toBeUndefined()
  })
  test.each([
    ['a name that reaches into the prototype', JSON.parse('{"a":{"__proto__":1}}'), ['a', '__proto__']],
    ['a NUL in a name', { stops: { 'a\u0000': 1 } }, ['stops']],
    ['a broken text', { list: ['ok', '\ud800'] }, ['list', 1]],
  ])('%s is found where it stands', (_name, value, path) => {
    expect(dataFault(value, 8)?.path).toEqual(path)
  })
  test('nesting has an end', () => {
    const nest = (levels: number): unknown => (levels === 0 ? 1 : [nest(levels - 1)])
    expect(dataFault(nest(8), 8)).toBeUndefined()
    expect(dataFault(nest(9), 8)?.says).toMatch(/too deeply/)
  })
})

describe('references', () => {
  test.each([
    ['user:ada', { is: 'user', user: 'ada' }],
    ['user:a:b', { is: 'user', user: 'a:b' }],
    ['everyone', { is: 'everyone' }],
    ['device:018bcfe5-6800-7fff-bfff-ffffffffffff', { is: 'device', device: '018bcfe5-6800-7fff-bfff-ffffffffffff' }],
  ])('%p is read', (text, reference) => {
    expect(parseReference(text)).toEqual(reference)
  })
  test.each(['', 'ada', 'user:', 'user:with space', 'device:12', 'topic:Weather now', `user:${'x'.repeat(129)}`])(
    '%p is refused in words',
    (text) => {
      expect(typeof parseReference(text)).toBe('string')
    },
  )
  test('a user’s name may be in any script', () => {
    expect(isUserName('نور')).toBe(true)
    expect(isUserName('a\u0000')).toBe(false)
  })
})

describe('the declarative message', () => {
  test('is the standard’s, with our own member beside it', () => {
    const message = declarativeMessage(
      'id',
      { title: 'T', body: 'B', navigate: '/sailings/1', tag: 't', data: { a: 1 } },
      'show',
      'https://ferries.example',
    )
    expect(message).toEqual({
      web_push: 8030,
      notification: { title: 'T', body: 'B', navigate: 'https://ferries.example/sailings/1', tag: 't', data: { a: 1 } },
      mutable: true,
      zephyr: { notification: 'id', mode: 'show' },
    })
  })
  test('always leads somewhere, as the standard asks', () => {
    expect(declarativeMessage('id', { title: 'T' }, 'show', 'https://ferries.example').notification.navigate).toBe(
      'https://ferries.example/',
    )
    expect(
      declarativeMessage('id', { title: 'T', navigate: 'https://else.example/x' }, 'show', 'https://a.example')
        .notification.navigate,
    ).toBe('https://else.example/x')
  })
})
