import { describe, expect, test } from '@jest/globals'
import fc from 'fast-check'
import {
  blockSize,
  fromBase64url,
  isUuid,
  packBlock,
  toBase64url,
  unpackBlock,
  uuidFromBytes,
  uuidToBytes,
  uuidV7,
} from '../src/index.ts'

describe('base64url', () => {
  test('is what Node writes and reads', () => {
    fc.assert(
      fc.property(fc.uint8Array(), (bytes) => {
        const text = toBase64url(bytes)
        expect(text).toBe(Buffer.from(bytes).toString('base64url'))
        expect(Buffer.from(fromBase64url(text)!).equals(Buffer.from(bytes))).toBe(true)
      }),
    )
  })
  test.each(['a', 'ab=', 'a b', 'é', 'ab+/'])('%p is not base64url', (text) => {
    expect(fromBase64url(text)).toBeUndefined()
  })
})

describe('UUIDs', () => {
  test('a version 7 carries its moment, so that later ones sort behind', () => {
    const chance = new Uint8Array(10).fill(255)
    const early = uuidV7(1_700_000_000_000, chance)
    const late = uuidV7(1_700_000_000_001, new Uint8Array(10))
    expect(early).toBe('018bcfe5-6800-7fff-bfff-ffffffffffff')
    expect(late > early).toBe(true)
    expect(isUuid(late)).toBe(true)
  })
  test('bytes and text go back and forth', () => {
    fc.assert(
      fc.property(fc.uint8Array({ minLength: 16, maxLength: 16 }), (bytes) => {
        expect([...uuidToBytes(uuidFromBytes(bytes))!]).toEqual([...bytes])
      }),
    )
  })
  test('what is no UUID has no bytes, and wrong sizes are a caller’s bug', () => {
    expect(uuidToBytes('018bcfe5-6800-7fff-bfff')).toBeUndefined()
    expect(() => uuidFromBytes(new Uint8Array(15))).toThrow(RangeError)
    expect(() => uuidV7(0, new Uint8Array(9))).toThrow(RangeError)
  })
})

describe('blocks of device numbers', () => {
  const ascending = fc
    .uniqueArray(fc.integer({ min: 1, max: Number.MAX_SAFE_INTEGER }), { maxLength: 300 })
    .map((numbers) => numbers.sort((a, b) => a - b))
  test('unpack to what was packed', () => {
    fc.assert(fc.property(ascending, (numbers) => expect(unpackBlock(packBlock(numbers))).toEqual(numbers)))
  })
  test('neighbours cost a byte each', () => {
    const numbers = Array.from({ length: blockSize }, (_, i) => 5_000_000 + i)
    expect(packBlock(numbers).length).toBeLessThan(blockSize + 10)
  })
  test.each([[[2, 1]], [[1, 1]], [[0]], [[1.5]]])('%p is refused', (numbers) => {
    expect(() => packBlock(numbers)).toThrow(RangeError)
  })
  test('bytes that end within a number are refused', () => {
    expect(() => unpackBlock(Uint8Array.of(0x81))).toThrow(RangeError)
  })
})
