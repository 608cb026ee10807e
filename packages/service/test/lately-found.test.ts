import { describe, expect, test } from '@jest/globals'
import type { Scope } from '../src/database/scope.ts'
import { LatelyFound } from '../src/http/lately-found.ts'
import { hashSecret } from '../src/vault/secrets.ts'

const scope: Scope = {
  app: { no: 1, slug: 'merrow-sound', name: 'Merrow Sound Ferries', identifiers: {}, createdAt: new Date(0) },
  environment: 'development',
}

describe('where a key led a moment ago', () => {
  test('is known for a minute after it was last asked about', () => {
    let nowMs = 1
    const lately = new LatelyFound(() => nowMs)
    expect(lately.scope(hashSecret('key'))).toBeUndefined()
    lately.note(hashSecret('key'), scope)
    nowMs = 60_001
    expect(lately.scope(hashSecret('key'))).toBe(scope)
    expect(lately.scope(hashSecret('another key'))).toBeUndefined()
    nowMs = 60_002
    expect(lately.scope(hashSecret('key'))).toBeUndefined()
  })
  test('is forgotten as soon as the key opens nothing', () => {
    const lately = new LatelyFound()
    lately.note(hashSecret('key'), scope)
    lately.note(hashSecret('key'), undefined)
    expect(lately.scope(hashSecret('key'))).toBeUndefined()
  })
  test('is kept of the thousand keys that were asked about last', () => {
    const lately = new LatelyFound()
    for (let i = 0; i < 1_000; i++) lately.note(hashSecret(`key ${i}`), scope)
    lately.note(hashSecret('key 0'), scope)
    lately.note(hashSecret('one more'), scope)
    expect(['key 0', 'key 1', 'key 2', 'one more'].map((key) => lately.scope(hashSecret(key)) !== undefined)).toEqual([
      true,
      false,
      true,
      true,
    ])
  })
})
