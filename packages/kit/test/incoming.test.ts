import { describe, expect, test } from '@jest/globals'
import { readIncoming } from '../src/browser/incoming.ts'

const id = '018bcfe5-6800-7fff-bfff-000000000001'

describe('a push message', () => {
  test('of this service is read with its id and mode', () => {
    const text = JSON.stringify({
      web_push: 8030,
      notification: { title: 'T', navigate: 'https://a.example/x', body: 'B', tag: 't', data: { a: 1 } },
      zephyr: { notification: id, mode: 'show' },
    })
    expect(readIncoming(text)).toEqual({
      id,
      mode: 'show',
      title: 'T',
      navigate: 'https://a.example/x',
      options: { body: 'B', tag: 't', data: { a: 1 } },
    })
  })

  test('of any other sender in the declarative form is understood as well', () => {
    const text = JSON.stringify({
      web_push: 8030,
      notification: { title: 'T', navigate: 'https://a.example', dir: 'rtl', silent: true, lang: 'ar' },
    })
    expect(readIncoming(text)).toMatchObject({
      id: undefined,
      mode: 'show',
      options: { dir: 'rtl', silent: true, lang: 'ar' },
    })
  })

  test.each([
    ['not JSON', 'hello'],
    ['JSON that is something else', '{"title":"T"}'],
    ['without a title', '{"web_push":8030,"notification":{"navigate":"https://a.example"}}'],
    ['a list', '[8030]'],
  ])('that is %s shows nothing', (_name, text) => {
    expect(readIncoming(text)).toBeUndefined()
  })

  test('members of the wrong type are left out', () => {
    const text = JSON.stringify({
      web_push: 8030,
      notification: { title: 'T', navigate: 1, body: {}, tag: 3, silent: 'yes', dir: 'up' },
    })
    expect(readIncoming(text)).toEqual({ id: undefined, mode: 'show', title: 'T', navigate: undefined, options: {} })
  })

  test('a wake needs no title', () => {
    const text = JSON.stringify({
      web_push: 8030,
      notification: { title: '' },
      zephyr: { notification: id, mode: 'wake' },
    })
    expect(readIncoming(text)).toMatchObject({ id, mode: 'wake' })
  })
})
