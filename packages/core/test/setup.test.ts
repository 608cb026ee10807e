import { describe, expect, test } from '@jest/globals'
import fc from 'fast-check'
import {
  type CheckVerdict,
  isHandsetAddress,
  nextStep,
  type SetupFacts,
  type SetupStepName,
  setupSteps,
  wayToRing,
} from '../src/index.ts'

const nowMs = Date.parse('2026-11-23T12:00:00Z')
const dayMs = 86_400_000
const nothing: SetupFacts = {
  platform: 'ios',
  environment: 'development',
  identifier: undefined,
  profile: { name: 'harbour' },
  credential: undefined,
  appKeys: 0,
  device: {},
  accepted: {},
  received: {},
}
const works = { verdict: { is: 'works' }, atMs: nowMs } as const
const key = { kind: 'signing-key', addedAtMs: nowMs, notAfterMs: undefined, rejected: false, check: works }
const everything: SetupFacts = {
  ...nothing,
  identifier: 'example.ferries',
  credential: key,
  appKeys: 1,
  device: { atMs: nowMs },
  accepted: { atMs: nowMs },
  received: { atMs: nowMs },
}
const step = (facts: SetupFacts, name: SetupStepName) => wayToRing(facts, nowMs).find((one) => one.step === name)!

describe('the way to a ring', () => {
  test('has all its steps in their order, and begins with the first', () => {
    const steps = wayToRing({ ...nothing, profile: undefined }, nowMs)
    expect(steps.map(({ step }) => step)).toEqual([...setupSteps])
    expect(steps.every(({ state }) => state === 'open')).toBe(true)
    expect(nextStep(steps)).toMatchObject({ step: 'identifier', action: 'give-identifier' })
  })

  test('is over when everything has happened', () => {
    const steps = wayToRing(everything, nowMs)
    expect(steps.map(({ state }) => state)).toEqual(Array(7).fill('done'))
    expect(nextStep(steps)).toBeUndefined()
  })

  test('what was only rehearsed is not done', () => {
    const rehearsed = { rehearsedAtMs: nowMs }
    const facts = { ...everything, device: rehearsed, accepted: rehearsed, received: rehearsed }
    const steps = wayToRing(facts, nowMs)
    expect(steps.map(({ state }) => state)).toEqual([...Array(4).fill('done'), ...Array(3).fill('rehearsed')])
    expect(nextStep(steps)?.step).toBe('device')
  })

  test('trouble goes before whatever else is open', () => {
    const facts = { ...nothing, credential: { ...key, rejected: true } }
    expect(nextStep(wayToRing(facts, nowMs))).toMatchObject({ step: 'credential', state: 'trouble' })
  })

  test.each<[string, Partial<SetupFacts>, SetupStepName, string, RegExp]>([
    [
      'an expired certificate',
      { credential: { ...key, notAfterMs: nowMs - 1 } },
      'credential',
      'trouble',
      /has expired/,
    ],
    [
      'one that ends soon',
      { credential: { ...key, notAfterMs: nowMs + 6.5 * dayMs } },
      'credential',
      'done',
      /expires within 7 days/,
    ],
    ['no profile', { profile: undefined }, 'profile', 'open', /no gateway profile/],
    [
      'a credential that was added for another gateway',
      { credential: { ...key, elsewhere: 'https://elsewhere.example' } },
      'credential',
      'trouble',
      /not added for https:\/\/elsewhere\.example/,
    ],
    ['the web without a profile', { platform: 'web', profile: undefined }, 'gateway', 'done', /It works/],
    [
      'a profile whose day has come',
      { profile: { name: 'old', outdatedFrom: '2026-11-01' } },
      'profile',
      'trouble',
      /outdated since 2026-11-01/,
    ],
    [
      'a profile whose day is still to come',
      { profile: { name: 'old', outdatedFrom: '2027-01-01' } },
      'profile',
      'done',
      /^old$/,
    ],
    [
      'a gateway that was not asked but took a ring',
      { credential: { ...key, check: undefined } },
      'gateway',
      'done',
      /took a ring/,
    ],
    ['no app key', { appKeys: 0, device: {} }, 'device', 'open', /No device/],
  ])('%s is said as it is', (_name, given, name, state, says) => {
    const found = step({ ...everything, ...given }, name)
    expect([found.state, found.detail]).toEqual([state, expect.stringMatching(says)])
  })

  test('every verdict of a check that is not good is trouble, and says what to do', () => {
    const verdicts: CheckVerdict[] = [
      { is: 'refused', status: 403 },
      { is: 'wrong-environment' },
      { is: 'clock-off', seconds: 400 },
      { is: 'unreachable', step: 'tls', code: 'CERT_HAS_EXPIRED' },
      { is: 'unexplained', status: 418 },
    ]
    for (const verdict of verdicts) {
      const found = step({ ...everything, credential: { ...key, check: { verdict, atMs: nowMs } } }, 'gateway')
      expect(found).toMatchObject({ state: 'trouble', action: 'check-credential', atMs: nowMs })
    }
  })

  test('whatever is known, a step that is not done says what is missing, and a done one asks for nothing', () => {
    const happened = fc.record({
      atMs: fc.option(fc.nat(), { nil: undefined }),
      rehearsedAtMs: fc.option(fc.nat(), { nil: undefined }),
    })
    const facts = fc.record({
      platform: fc.constantFrom('ios' as const, 'android' as const, 'web' as const),
      environment: fc.constantFrom('development' as const, 'production' as const),
      identifier: fc.option(fc.constant('example.ferries'), { nil: undefined }),
      profile: fc.option(fc.constant({ name: 'harbour' }), { nil: undefined }),
      credential: fc.option(
        fc.record({
          ...Object.fromEntries(Object.entries(key).map(([name, value]) => [name, fc.constant(value)])),
          rejected: fc.boolean(),
          check: fc.constantFrom(
            undefined,
            works,
            { verdict: { is: 'not-checkable', because: 'a ring tells' } as const, atMs: nowMs },
            { verdict: { is: 'refused', status: 403 } as const, atMs: nowMs },
          ),
        }) as fc.Arbitrary<NonNullable<SetupFacts['credential']>>,
        { nil: undefined },
      ),
      appKeys: fc.nat(2),
      device: happened,
      accepted: happened,
      received: happened,
    })
    fc.assert(
      fc.property(facts, (given) => {
        const steps = wayToRing(given, nowMs)
        for (const { state, detail, action } of steps) {
          expect(detail).not.toBe('')
          if (state === 'done') expect(action).toBeUndefined()
        }
        // Until all is done there is a next one, which says what to do, and what is needed for that is there.
        const next = nextStep(steps)
        expect(next === undefined).toBe(steps.every(({ state }) => state === 'done'))
        if (!next) return
        expect([next.remedy, next.action]).toEqual([expect.any(String), expect.any(String)])
        const { profile, credential, device, appKeys, platform } = given
        const needs: Partial<Record<NonNullable<typeof next.action>, boolean>> = {
          'hand-in-credential': platform === 'web' || profile !== undefined,
          'check-credential': credential !== undefined && (platform === 'web' || profile !== undefined),
          'register-device': appKeys > 0,
          send: device.atMs !== undefined || device.rehearsedAtMs !== undefined,
        }
        expect(needs[next.action!] ?? true).toBe(true)
      }),
    )
  })
})

test.each([
  ['handset-AAAA', true],
  ['https://127.0.0.1:7433/push/handset-AAAA', true],
  ['a-real-token-handset-1', false],
  ['https://push.example/handset-service/AAAA', false],
  ['', false],
])('the address %s: a virtual handset’s is %s', (address, is) => {
  expect(isHandsetAddress(address)).toBe(is)
})
