import { beforeEach, describe, expect, test } from '@jest/globals'
import { noPolicy } from '../src/engine/policy.ts'
import { sendBlock } from '../src/engine/send-block.ts'
import { sendBlockDefaults } from '../src/engine/send-options.ts'
import { claimOf, device } from './scratch-block.ts'
import { ends, gateways, notification, run, setStage, stage, store } from './scratch-sending.ts'

beforeEach(setStage)

describe('a block', () => {
  test('sends virtual handsets a way of their own, and notes once what was accepted where', async () => {
    stage.fleet = [device(1), device(2, { token: 'handset-2' }), device(3), device(4, { token: 'handset-4' })]
    await run(claimOf([1, 2, 3, 4]))
    expect(stage.opened).toEqual(['ios', 'ios rehearsal'])
    expect(stage.noted.sort()).toEqual(['ios', 'ios rehearsal'])
    expect(ends().map(([, state]) => state)).toEqual(['accepted', 'accepted', 'accepted', 'accepted'])
  })

  test('ends each device by what it is and by what the gateway says', async () => {
    stage.fleet = [
      device(1),
      device(2, { permission: 'denied' }),
      device(3, { muted: true }),
      device(4),
      device(5),
      device(6, { retired: true }),
    ]
    stage.answer = async (token) =>
      token === 'token-4'
        ? { is: 'token-gone' }
        : token === 'token-5'
          ? { is: 'refused', reason: 'too-large' }
          : { is: 'accepted', ref: 'r' }
    expect(await run(claimOf([1, 2, 3, 4, 5, 6, 99]))).toBe(true)
    expect(ends()).toEqual([
      [1, 'accepted', undefined],
      [2, 'skipped', 'permission-denied'],
      [3, 'skipped', 'muted'],
      [4, 'refused', 'token-gone'],
      [5, 'refused', 'too-large'],
      [6, 'skipped', 'unregistered'],
      [99, 'skipped', 'unregistered'],
    ])
    expect(stage.stored.at(-1)).toMatchObject({ remaining: [], retries: [] })
  })

  test('a push service that gives no answer holds up none of the others', async () => {
    stage.fleet = [
      ...Array.from({ length: 5 }, (_, i) => device(i + 1, { platform: 'web', token: `silent-${i}` })),
      ...Array.from({ length: 20 }, (_, i) => device(i + 6, { platform: 'web', token: `good-${i}` })),
    ]
    let goods = 0
    let allGood: () => void = () => {}
    const lastGood = new Promise<void>((done) => {
      allGood = done
    })
    stage.answer = async (token) => {
      if (token.startsWith('good')) {
        if (++goods === 20) allGood()
        return { is: 'accepted' }
      }
      await lastGood
      return { is: 'unavailable', silent: true }
    }
    await run(claimOf(stage.fleet.map(({ no }) => no)))
    expect(ends().map(([no]) => no)).toEqual(Array.from({ length: 20 }, (_, i) => i + 6))
    expect(stage.stored.at(-1)?.retries.flatMap(({ devices }) => devices)).toEqual([1, 2, 3, 4, 5])
  })

  test('a device is given up whose push service has been asked four times and never heard from', async () => {
    stage.fleet = [device(1, { platform: 'web', token: 'silent' })]
    stage.answer = async () => ({ is: 'unavailable', silent: true })
    await run(claimOf([1], { failures: 2 }))
    expect(ends()).toEqual([])
    await run(claimOf([1], { failures: 3 }))
    expect(ends()).toEqual([[1, 'refused', 'push-service-silent']])
  })

  describe('under policy', () => {
    const cap = { name: 'offers', most: 1, hours: 24 }
    const always = (then: 'wait' | 'skip') => ({ from: '00:00', to: '00:00', then, belowUrgency: null })

    test('skips those on whose device its channel is blocked, and those who muted it', async () => {
      stage.fleet = [device(1), device(2), device(3, { userNo: 30 })]
      stage.policy = { ...noPolicy, blocked: new Set([1]), mutedBy: new Set([30]) }
      await run(claimOf([1, 2, 3]))
      expect(ends()).toEqual([
        [1, 'skipped', 'channel-blocked'],
        [2, 'accepted', undefined],
        [3, 'skipped', 'channel-muted'],
      ])
    })

    test('lets those wait for whom quiet hours pause, until they end, without counting it as a try', async () => {
      stage.fleet = [device(1, { timeZone: 'Asia/Tokyo' }), device(2, { timeZone: 'Europe/Oslo' })]
      const now = Date.parse('2027-01-12T14:00:00Z')
      const night = { from: '22:00', to: '07:00', then: 'wait' as const }
      stage.policy = { ...noPolicy, quiet: [night] }
      const ofLater = { ...notification, expiresAt: new Date(now + 86_400_000) }
      await sendBlock(claimOf([1, 2], { failures: 2 }), ofLater, store, gateways, {
        ...sendBlockDefaults,
        now: () => now,
        chance: () => 0,
      })
      expect(ends()).toEqual([[2, 'accepted', undefined]])
      // Seven in the morning of the next day in Tokyo.
      expect(stage.stored.at(-1)?.retries).toEqual([
        { devices: [1], failures: 2, cause: 'quiet-hours', afterMs: 8 * 3_600_000 },
      ])
    })

    test('ends those who would wait for longer than it lives, and leaves out where that is asked', async () => {
      stage.fleet = [device(1), device(2, { userNo: 20 })]
      stage.policy = { ...noPolicy, quiet: [always('wait')] }
      await run(claimOf([1, 2]))
      expect(ends()).toEqual([
        [1, 'expired', 'quiet-hours'],
        [2, 'expired', 'quiet-hours'],
      ])
      stage.stored = []
      stage.policy = { ...noPolicy, own: new Map([[20, [always('skip')]]]) }
      await run(claimOf([1, 2]))
      expect(ends()).toEqual([
        [1, 'accepted', undefined],
        [2, 'skipped', 'quiet-hours'],
      ])
    })

    test('counts under caps each person once, and only who would ring; whom a cap leaves out is told which', async () => {
      stage.fleet = [
        device(1, { userNo: 10 }),
        device(2, { userNo: 10 }),
        device(3),
        device(4, { userNo: 40, muted: true }),
        device(5, { userNo: 50 }),
      ]
      stage.policy = { ...noPolicy, caps: [cap] }
      stage.over = new Map([[10, 'offers']])
      await run(claimOf([1, 2, 3, 4, 5]))
      expect(stage.counted).toEqual([10, -3, 50])
      expect(ends()).toEqual([
        [1, 'skipped', 'over-cap'],
        [2, 'skipped', 'over-cap'],
        [3, 'accepted', undefined],
        [4, 'skipped', 'muted'],
        [5, 'accepted', undefined],
      ])
      expect(stage.stored.flatMap(({ ended }) => ended).find(({ deviceNo }) => deviceNo === 1)?.detail).toBe('offers')
    })
  })

  test('never has more requests on their way than its client has places', async () => {
    stage.fleet = Array.from({ length: 30 }, (_, i) => device(i + 1))
    await run(claimOf(stage.fleet.map(({ no }) => no)))
    expect(stage.inFlight.most).toBe(3)
    expect(ends()).toHaveLength(30)
  })

  test('lets busy devices wait together, as long as the most patient answer asked', async () => {
    stage.fleet = [device(1), device(2), device(3, { platform: 'android' })]
    stage.answer = async (token) =>
      token === 'token-1'
        ? { is: 'busy', retryAfterMs: 7_000 }
        : token === 'token-2'
          ? { is: 'busy' }
          : { is: 'unavailable' }
    await run(claimOf([1, 2, 3], { failures: 1 }))
    expect(stage.stored.at(-1)?.retries).toEqual([
      { devices: [1, 2], failures: 2, cause: 'gateway-busy', afterMs: 7_000 },
      { devices: [3], failures: 2, cause: 'gateway-unreachable', afterMs: 1_000 },
    ])
  })

  test('ends what would have to wait for longer than it may live, by the reason for the wait', async () => {
    stage.fleet = [device(1)]
    stage.answer = async () => ({ is: 'busy', retryAfterMs: 120_000 })
    await run(claimOf([1]))
    expect(ends()).toEqual([[1, 'expired', 'gateway-busy']])
  })

  test.each([
    [undefined, 'expired-in-queue'],
    ['gateway-unreachable', 'gateway-unreachable'],
  ] as const)('that comes too late, after %p, ends as expired', async (cause, reason) => {
    stage.fleet = [device(1)]
    await run(claimOf([1], { cause, failures: cause ? 1 : 0 }), { now: () => notification.expiresAt.getTime() })
    expect(ends()).toEqual([[1, 'expired', reason]])
  })

  test('without a way to the gateway says why', async () => {
    stage.fleet = [device(1)]
    stage.client = async () => 'no-credential'
    await run(claimOf([1]))
    expect(ends()).toEqual([[1, 'refused', 'no-credential']])
  })

  test('a fault at one device, or on the way to one gateway, holds up nobody else', async () => {
    stage.fleet = [device(1), device(2)]
    stage.answer = async (token) => {
      if (token === 'token-1') throw new Error('an internal error')
      return { is: 'accepted' }
    }
    await run(claimOf([1, 2]))
    expect(ends()).toEqual([[2, 'accepted', undefined]])
    expect(stage.stored.at(-1)?.retries).toMatchObject([{ devices: [1], cause: 'internal-fault' }])
    expect(stage.faults).toHaveLength(1)

    stage.stored = []
    stage.client = async () => {
      throw new Error('the vault does not open')
    }
    await run(claimOf([1, 2]))
    expect(stage.stored.at(-1)?.retries).toMatchObject([{ devices: [1, 2], cause: 'internal-fault' }])
  })

  test('what a gateway refuses for its credential waits for another one, and counts as no failure', async () => {
    stage.fleet = [device(1), device(2)]
    stage.answer = async (token) =>
      token === 'token-1' ? { is: 'refused', reason: 'credential-rejected' } : { is: 'accepted' }
    await run(claimOf([1, 2], { failures: 3 }))
    expect(ends()).toEqual([[2, 'accepted', undefined]])
    expect(stage.stored.at(-1)?.retries).toEqual([
      { devices: [1], failures: 3, cause: 'credential-rejected', afterMs: 30_000 },
    ])
  })

  test('what was refused before another credential was put in use, and is stored after it, is woken again', async () => {
    stage.fleet = [device(1)]
    stage.answer = async () => {
      // Somebody replaces the credential while the refusal is on its way to the store.
      stage.turned = 'stale'
      return { is: 'refused', reason: 'credential-rejected' }
    }
    const claim = claimOf([1])
    await run(claim)
    expect(stage.stored.at(-1)?.retries).toMatchObject([{ devices: [1], cause: 'credential-rejected' }])
    expect(stage.woken).toEqual([claim.appNo])
  })

  test('a halted client sends nothing', async () => {
    stage.fleet = [device(1), device(2)]
    stage.clientState = () => 'halted'
    await run(claimOf([1, 2]))
    expect([stage.inFlight.most, ends()]).toEqual([0, []])
    expect(stage.stored.at(-1)?.retries).toMatchObject([{ devices: [1, 2], cause: 'credential-rejected' }])
  })

  test('a stale client is looked for anew in the middle of a block', async () => {
    stage.fleet = [device(1), device(2), device(3)]
    let looks = 0
    stage.clientState = () => (++looks === 1 ? 'stale' : 'open')
    await run(claimOf([1, 2, 3]))
    expect(looks).toBe(2)
    expect(ends()).toHaveLength(3)
  })

  test('stores on the way, and stops when its lease is lost', async () => {
    stage.fleet = Array.from({ length: 40 }, (_, i) => device(i + 1))
    await run(claimOf(stage.fleet.map(({ no }) => no)), { storeEveryMs: 0 })
    expect(stage.stored.length).toBeGreaterThan(2)
    for (const [i, { ended, remaining }] of stage.stored.entries()) {
      const before = stage.stored.slice(0, i).flatMap((one) => one.ended).length
      if (i < stage.stored.length - 1) expect(before + ended.length + remaining.length).toBe(40)
    }
    stage.stored = []
    stage.holds = false
    expect(await run(claimOf(stage.fleet.map(({ no }) => no)), { storeEveryMs: 0 })).toBe(false)
    expect(ends().length).toBeLessThan(40)
  })
})

describe('what a gateway answered', () => {
  const answers = () => stage.stored.flatMap(({ ended }) => ended).sort((a, b) => a.deviceNo - b.deviceNo)

  test('is stored with each delivery that it ended: where, as whom, and what it said', async () => {
    stage.fleet = [device(1), device(2), device(3)]
    stage.answer = async (token) =>
      token === 'token-2'
        ? { is: 'token-gone', answered: { status: 410, says: 'gone' } }
        : { is: 'accepted', answered: { status: 200, says: '' } }
    await run(claimOf([1, 2, 3]))
    const via = { gateway: 'https://gateway.example', credential: 'signing-key 00112233' }
    expect(answers().map((one) => one.answer)).toEqual([
      { ...via, status: 200, says: '' },
      { ...via, status: 410, says: 'gone' },
      { ...via, status: 200, says: '' },
    ])
  })

  test('is nothing where it said nothing, or was not asked', async () => {
    stage.fleet = [device(1), device(2, { muted: true })]
    await run(claimOf([1, 2]))
    expect(answers().map((one) => one.answer)).toEqual([undefined, undefined])
  })
})
