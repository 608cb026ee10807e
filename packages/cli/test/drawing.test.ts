import { describe, expect, test } from '@jest/globals'
import { ago } from '@zbell/contract/words'
import fc from 'fast-check'
import stringWidth from 'string-width'
import { drawHandset } from '../src/drawing/lock-screen.ts'
import { paint } from '../src/drawing/paint.ts'
import { drawReview } from '../src/drawing/review.ts'
import { table } from '../src/drawing/table.ts'
import { cut, safe, wrap } from '../src/drawing/text.ts'

const io = {
  env: {},
  cwd: '/',
  out: () => {},
  err: () => {},
  colour: false,
  locale: 'en',
  timeZone: 'UTC',
  stop: new AbortController().signal,
}
const shown = (title: string, body: string) => ({
  notification: '018bcfe5-6800-7fff-bfff-000000000001',
  title,
  body,
  navigate: null,
  tag: null,
  subtitle: null,
  image: null,
  accent: null,
  dir: null,
  group: null,
  actions: [],
  heard: null,
  vibrated: [],
  shownAt: '2026-01-01T12:00:00.000Z',
})
const plain = {
  installed: true,
  muted: false,
  online: true,
  doNotDisturb: false,
  lowPower: false,
  inFront: 'show' as const,
  timeZone: 'UTC',
  place: null,
  watch: null,
  toast: null,
  topics: [],
  plans: [],
  blockedChannels: [],
  mutedChannels: [],
  log: [],
}

const handset = {
  id: 'haru-ios',
  model: 'Skerry 3',
  platform: 'ios' as const,
  user: 'haru',
  device: null,
  rehearsal: false,
  ...plain,
  permission: 'granted' as const,
  appState: 'closed' as const,
  locked: true,
  clock: '2026-01-01T12:03:00.000Z',
  badge: 1,
  opened: null,
}

describe('drawing', () => {
  test('every line of a lock screen is equally wide, in any script', () => {
    const lockScreen = [
      shown('今夜は嵐です', '二十時以降の便は欠航することがあります。'.repeat(4)),
      shown('عاصفة الليلة', 'x'.repeat(300)),
    ]
    const lines = drawHandset({ ...handset, lockScreen }, io, paint(false))
      .split('\n')
      .slice(2, -1)
    expect(new Set(lines.map((line) => stringWidth(line)))).toEqual(new Set([50]))
    expect(lines.join('\n')).toContain('3 min ago')
  })

  test('an empty lock screen says so', () => {
    expect(drawHandset({ ...handset, lockScreen: [] }, io, paint(false))).toContain('nothing here')
  })

  test('nothing that is printed can steer the terminal', () => {
    fc.assert(
      fc.property(fc.string({ unit: 'binary' }), (text) => {
        expect(safe(`\u001b]0;owned\u0007${text}\u202e`)).not.toMatch(
          /[\u0000-\u001f\u007f-\u009f\u202a-\u202e\u2066-\u2069]/,
        )
      }),
    )
  })

  test('cut and wrapped texts fit', () => {
    fc.assert(
      fc.property(
        fc.string({ unit: 'grapheme', maxLength: 60 }).map(safe),
        fc.integer({ min: 4, max: 30 }),
        (text, width) => {
          expect(stringWidth(cut(text, width))).toBeLessThanOrEqual(width)
          const lines = wrap(text, width, 3)
          expect(lines.length).toBeLessThanOrEqual(3)
          for (const line of lines) expect(stringWidth(line)).toBeLessThanOrEqual(width)
        },
      ),
    )
  })

  test('a table is aligned', () => {
    expect(table(['a', 'long'], [['wide cell', '1']], (text) => text)).toBe('a          long\nwide cell  1\n')
  })

  test.each([
    [0, '0 s ago'],
    [59_000, '59 s ago'],
    [300_000, '5 min ago'],
    [7_200_000, '2 h ago'],
    [259_200_000, '3 days ago'],
    [-5_000, '0 s ago'],
  ])('%p ms is %p', (ms, words) => {
    expect(ago('2026-01-01T00:00:00Z', Date.parse('2026-01-01T00:00:00Z') + ms)).toBe(words)
  })

  test('a review says whether its numbers are estimated, and how to have them counted', () => {
    const review = {
      people: 850_000,
      devices: { ios: 283_000, android: 0, web: 284_000 },
      leftOut: [],
      quiet: [],
      caps: [],
      listed: [],
      person: null,
      samples: [],
      faults: [],
      warnings: [],
      seconds: null,
    }
    const estimate = drawReview({ ...review, estimated: true }, paint(false), { timeZone: 'UTC' })
    expect(estimate).toContain('About 567,000 devices of 850,000 people: ios 283,000, web 284,000')
    expect(estimate).toContain('--exact')
    expect(drawReview({ ...review, estimated: false }, paint(false), { timeZone: 'UTC' })).toBe(
      '567,000 devices of 850,000 people: ios 283,000, web 284,000\n\n',
    )
  })

  test('colours are left out when they are not wanted', () => {
    expect(paint(false).bad('x')).toBe('x')
    expect(paint(true).bad('x')).toBe('\u001b[31mx\u001b[39m')
  })
})
