import { describe, expect, test } from '@jest/globals'
import fc from 'fast-check'
import {
  type AttributeValue,
  attributeOfText,
  attributeTypeOf,
  deviceEventOfCode,
  deviceEvents,
  isAttributeName,
  keepValue,
  keptValue,
  meaningOfRegistration,
  packAllowed,
  parseReference,
  parseTarget,
  unpackAllowed,
  valueOfText,
} from '../src/index.ts'

describe('attributes', () => {
  test.each<[unknown, string | undefined]>([
    ['Lantern Quay', 'text'],
    ['2026-11-23T12:00:00Z', 'instant'],
    ['2026-11-23T12:00:00+01:00', 'instant'],
    ['2026-13-23T12:00:00Z', 'text'],
    ['2026-11-23', 'text'],
    [12.5, 'number'],
    [Number.NaN, undefined],
    [Number.POSITIVE_INFINITY, undefined],
    [false, 'boolean'],
    [{ longitude: 5.3, latitude: 60.4 }, 'place'],
    [{ longitude: 181, latitude: 0 }, undefined],
    [{ longitude: 0, latitude: 0, height: 3 }, undefined],
    [null, undefined],
    [['a'], undefined],
  ])('%p is of type %p by itself', (value, type) => {
    expect(attributeTypeOf(value)).toBe(type)
  })

  const values: fc.Arbitrary<AttributeValue> = fc.oneof(
    fc.string({ maxLength: 500 }),
    fc.double({ noNaN: true, noDefaultInfinity: true }),
    fc.boolean(),
    fc.date({ min: new Date(0), max: new Date('2100-01-01'), noInvalidDate: true }).map((date) => date.toISOString()),
    fc.record({
      longitude: fc.double({ min: -180, max: 180, noNaN: true }),
      latitude: fc.double({ min: -90, max: 90, noNaN: true }),
    }),
  )

  test('what is kept comes back as it was', () => {
    fc.assert(
      fc.property(values, (value) => {
        const type = attributeTypeOf(value)!
        const kept = keepValue(type, value)
        if (typeof kept === 'string') throw new Error(kept)
        expect(keptValue(type, kept)).toEqual(value)
      }),
    )
  })

  test('a value of another type than was declared is refused in words; an instant is also a text', () => {
    expect(keepValue('number', '12')).toBe('is of type text, and number was declared')
    expect(keepValue('text', 12)).toBe('is of type number, and text was declared')
    expect(keepValue('text', '2026-11-23T12:00:00Z')).toMatchObject({ text: '2026-11-23T12:00:00Z' })
    expect(keepValue('text', 'x'.repeat(501))).toBe('has more than 500 characters')
  })

  test.each([
    ['15', 15],
    ['-2.50', -2.5],
    ['0', 0],
    ['-0', '-0'],
    ['-0.00', '-0.00'],
    ['0.25', 0.25],
    ['true', true],
    ['True', 'True'],
    ['007', '007'],
    ['+47', '+47'],
    ['1e3', '1e3'],
    ['1.', '1.'],
    ['123456789012345', 123456789012345],
    ['1234567890123456', '1234567890123456'],
    ['', ''],
    ['Infinity', 'Infinity'],
  ])('%p as text means %p', (text, value) => expect(valueOfText(text)).toBe(value))

  test('a number that is taken for one keeps each of its digits', () => {
    const digits = fc.stringMatching(/^-?[0-9]{1,20}(\.[0-9]{1,20})?$/)
    fc.assert(
      fc.property(digits, (text) => {
        const value = valueOfText(text)
        if (typeof value === 'number') expect(Number(value.toPrecision(15))).toBe(value)
        else expect(value).toBe(text)
      }),
    )
  })

  test.each([
    ['24.9,60.2', { longitude: 24.9, latitude: 60.2 }],
    ['24.9, 60.2', '24.9, 60.2'],
    ['200,10', '200,10'],
    ['Gull Point, pier 2', 'Gull Point, pier 2'],
  ])('the attribute %p as text means %p', (text, value) => expect(attributeOfText(text)).toEqual(value))

  test.each([
    ['home_pier', true],
    ['a'.repeat(64), true],
    ['a'.repeat(65), false],
    ['2nd', false],
    ['home pier', false],
    ['__proto__', false],
    ['', false],
  ])('the name %p: %p', (name, is) => expect(isAttributeName(name)).toBe(is))
})

describe('what a registration means', () => {
  test.each([
    [7, 7, 7, {}, { is: 'same', device: 7 }],
    [7, undefined, 7, {}, { is: 'same', device: 7 }],
    [7, 8, 7, { justNow: true }, { is: 'same', device: 7 }],
    [7, 7, undefined, {}, { is: 'new-token', device: 7 }],
    [7, 7, undefined, { tokenGivenUp: true }, { is: 'restored-copy' }],
    [7, 7, 8, {}, { is: 'token-moved', device: 7, from: 8 }],
    [7, 7, 8, { tokenGivenUp: true, justNow: true }, { is: 'token-moved', device: 7, from: 8 }],
    [undefined, undefined, undefined, {}, { is: 'new', from: undefined }],
    [undefined, undefined, 8, {}, { is: 'new', from: 8 }],
    [undefined, 7, 7, {}, { is: 'new', from: 7 }],
    [undefined, 7, undefined, {}, { is: 'new', from: undefined }],
    [undefined, undefined, 8, { justNow: true }, { is: 'just-now' }],
    [undefined, 7, undefined, { justNow: true }, { is: 'just-now' }],
    [undefined, undefined, 8, { unclaimed: true }, { is: 'claimed', device: 8 }],
    [undefined, 7, 8, { unclaimed: true, justNow: true }, { is: 'claimed', device: 8 }],
  ])('secret of %p, installation of %p, token of %p, %j: %j', (proven, byInstallation, byToken, more, means) => {
    const nothing = { unclaimed: false, justNow: false, tokenGivenUp: false }
    expect(meaningOfRegistration({ proven, byInstallation, byToken, ...nothing, ...more })).toEqual(means)
  })
})

test('what was allowed survives its packing', () => {
  fc.assert(
    fc.property(fc.record({ alerts: fc.boolean(), badges: fc.boolean(), sounds: fc.boolean() }), (allowed) => {
      expect(unpackAllowed(packAllowed(allowed))).toEqual(allowed)
    }),
  )
})

test('the codes of a device’s events are its own, and lead back', () => {
  for (const [name, { code }] of Object.entries(deviceEvents)) expect(deviceEventOfCode(code)).toBe(name)
  expect(() => deviceEventOfCode(99)).toThrow(RangeError)
})

test.each([
  ['topic:route-4', { is: 'topic', topic: 'route-4' }],
  ['topic:Route 4', expect.stringContaining('wants a topic')],
  ['topic:', expect.stringContaining('wants a topic')],
])('%p is read as %p', (text, read) => expect(parseReference(text)).toEqual(read))

describe('a target', () => {
  test('is read part by part, and once', () => {
    const target = { any: ['user:ada', 'everyone'], none: ['topic:route-4'] }
    const parsed = parseTarget(target)
    expect(parsed).toEqual({
      any: [{ is: 'user', user: 'ada' }, { is: 'everyone' }],
      all: [],
      none: [{ is: 'topic', topic: 'route-4' }],
    })
    expect(parseTarget(target)).toBe(parsed)
  })

  test('with something that is no reference means nobody by mistake, and is refused', () => {
    expect(() => parseTarget({ any: ['user:ada'], none: ['season-holders'] })).toThrow(/is not a reference/)
  })
})
