import { describe, expect, test } from '@jest/globals'
import { reasonOfCode, reasons, reasonToSkip, resolveRetry, retryDelayMs, sayReason } from '../src/index.ts'

const device = { permission: 'granted', muted: false, retired: false } as const

describe('whether to ring a device', () => {
  test.each([
    ['a device that allows it is rung', device, 'show', undefined],
    ['a denied device is skipped and says so', { ...device, permission: 'denied' }, 'show', 'permission-denied'],
    [
      'a device that was not asked is skipped and says so',
      { ...device, permission: 'prompt' },
      'show',
      'permission-not-asked',
    ],
    ['a muted device is skipped and says so', { ...device, muted: true }, 'show', 'muted'],
    ['denied weighs more than muted', { ...device, muted: true, permission: 'denied' }, 'show', 'permission-denied'],
    ['a wake needs no leave to show', { ...device, muted: true, permission: 'denied' }, 'wake', undefined],
    ['a retired device is not even woken', { ...device, retired: true }, 'wake', 'unregistered'],
  ] as const)('%s', (_name, given, mode, reason) => {
    expect(reasonToSkip(given, mode)).toBe(reason)
  })

  test('every reason has its own code, and says what to do', () => {
    const codes = Object.values(reasons).map(({ code }) => code)
    expect(new Set(codes).size).toBe(codes.length)
    for (const name of Object.keys(reasons) as (keyof typeof reasons)[]) {
      expect(reasonOfCode(reasons[name].code)).toBe(name)
      expect(sayReason(name)).toMatch(/^[A-Z].*\.\s[A-Z].*\.$/)
    }
    expect(() => reasonOfCode(250)).toThrow(RangeError)
  })
})

describe('when to try again', () => {
  const options = resolveRetry()
  test('the wait doubles, with jitter in its upper half, up to five minutes', () => {
    expect(retryDelayMs(1, options, 0)).toBe(500)
    expect(retryDelayMs(1, options, 0.999)).toBe(1_000)
    expect(retryDelayMs(3, options, 0)).toBe(2_000)
    expect(retryDelayMs(30, options, 0)).toBe(150_000)
  })
  test('a gateway that asks for longer gets it', () => {
    expect(retryDelayMs(1, options, 0, 60_000)).toBe(60_000)
    expect(retryDelayMs(9, options, 0, 1_000)).toBe(128_000)
  })
  test('options are frozen', () => {
    expect(Object.isFrozen(resolveRetry({ maxMs: 1 }))).toBe(true)
  })
})
