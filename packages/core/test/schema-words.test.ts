import { describe, expect, test } from '@jest/globals'
import { z } from 'zod'
import '../src/schema-words.ts'

const words = (type: z.ZodType, value: unknown): string => {
  const { error } = type.safeParse(value)
  return error!.issues[0]!.message
}

describe('what a schema finds is said in our words:', () => {
  test.each([
    [z.object({ title: z.string() }), {}, 'is missing; a text is wanted'],
    [z.string(), 5, 'is 5 where a text is wanted'],
    [z.int(), 'five', 'is “five” where a number is wanted'],
    [z.coerce.number(), 'five', 'is no number where a number is wanted'],
    [z.array(z.string()), { 0: 'x' }, 'is an object where a list is wanted'],
    [z.enum(['ios', 'android', 'web']), 'pager', 'is “pager” and can be ios, android or web'],
    [z.enum(['ios', 'web']), undefined, 'is missing; it can be ios or web'],
    [z.literal('ios'), 'web', 'is “web” and can be ios'],
    [z.string().min(2), 'x', 'has to have at least 2 characters'],
    [z.array(z.string()).max(1), ['a', 'b'], 'has to have at most 1 items'],
    [z.number().min(10), 9, 'has to be at least 10'],
    [z.number().gt(10), 10, 'has to be more than 10'],
    [z.strictObject({}), { colour: 1, sound: 2 }, 'has “colour”, “sound”, which are not known here'],
    [z.email(), 'ada', 'is “ada” where an e-mail address is wanted'],
    [z.iso.datetime(), 'soon', 'is “soon” where a time such as 2027-03-10T06:30:00Z is wanted'],
    [z.string(), 'x'.repeat(3), ''],
  ])('%#', (type, value, expected) => {
    if (expected === '') expect(type.safeParse(value).success).toBe(true)
    else expect(words(type as z.ZodType, value)).toBe(expected)
  })

  test('what was given is cut, and words of a check of its own stay', () => {
    expect(words(z.enum(['ios', 'web']), 'x'.repeat(1_000)).length).toBeLessThan(100)
    expect(words(z.string().regex(/^a/, 'begins with an a'), 'b')).toBe('begins with an a')
  })

  test('nothing of a library is in any of them', () => {
    const shape = z.object({
      a: z.string(),
      b: z.number(),
      c: z.union([z.string(), z.boolean()]),
      d: z.record(z.string(), z.int()),
    })
    for (const value of [undefined, null, 1, [], {}, { a: 1, b: 'x', c: 3, d: { e: 1.5 } }]) {
      const { error } = shape.safeParse(value)
      for (const { message } of error!.issues) expect(message).not.toMatch(/Invalid|expected|received|NaN|undefined/)
    }
  })
})
