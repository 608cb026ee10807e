import { beforeEach, describe, expect, test } from '@jest/globals'
import type { Outcome, Reason } from '@zbell/core'
import type { Notification } from '../src/engine/notification.ts'
import type { Gateways, Lane, WorkStore } from '../src/engine/ports.ts'
import { prepareAhead } from '../src/engine/prepare-ahead.ts'
import { type Restraint, unrestrained } from '../src/engine/restraint.ts'
import { sendBlock } from '../src/engine/send-block.ts'
import { sendBlockDefaults } from '../src/engine/send-options.ts'
import type { BlockDevice, Claim, Outcomes } from '../src/engine/work.ts'
import { Worker } from '../src/engine/worker.ts'
import { Places } from '../src/gateways/slots.ts'
import { makeLog } from '../src/telemetry/log.ts'
import { claimOf, device, type SendClaim } from './scratch-block.ts'

const notification = {
  no: 7,
  id: '018bcfe5-6800-7fff-bfff-000000000007',
  appNo: 1,
  environment: 'development',
  content: { title: 'T' },
  filling: {},
  hold: 'none',
  mode: 'show',
  urgency: 'normal',
  ttlSeconds: 60,
  expiresAt: new Date(Date.now() + 60_000),
  channel: null,
  stopped: false,
  expanded: 10,
} as unknown as Notification

let stored: Outcomes[]
let fleet: BlockDevice[]
let holds: boolean
let answer: (token: string) => Promise<Outcome>
let lane: () => Promise<Reason | undefined>
let faults: unknown[]
let laneState: () => 'open' | 'halted' | 'stale'
let inFlight = { now: 0, most: 0 }
let noted: string[]
let woken: number[] = []
/** What all lanes have become meanwhile. */
let turned: Lane['state'] | undefined
let opened: string[]
let restraint: Restraint
let over: ReadonlyMap<number, string>
let counted: number[]

beforeEach(() => {
  stored = []
  fleet = []
  holds = true
  faults = []
  inFlight = { now: 0, most: 0 }
  noted = []
  woken = []
  turned = undefined
  opened = []
  restraint = unrestrained
  over = new Map()
  counted = []
  answer = async () => ({ is: 'accepted' })
  lane = async () => undefined
  laneState = () => 'open'
})

const store = {
  devices: async (numbers: readonly number[]) => fleet.filter(({ no }) => numbers.includes(no)),
  restraint: async () => restraint,
  countUnderCaps: async (_notification: Notification, _caps: unknown, persons: readonly number[]) => {
    counted = [...persons]
    return over
  },
  storeOutcomes: async (_claim: Claim, outcomes: Outcomes) => {
    stored.push({ ...outcomes, ended: [...outcomes.ended], remaining: [...outcomes.remaining] })
    return holds
  },
  wakeRejected: async ({ appNo }: Claim) => {
    woken.push(appNo)
  },
  noteAccepted: async (_notification: Notification, platform: string, rehearsal: boolean) => {
    noted.push(`${platform}${rehearsal ? ' rehearsal' : ''}`)
  },
} as unknown as WorkStore

const gateways: Gateways = {
  async lane(_appNo, _environment, platform, rehearsal) {
    opened.push(`${platform}${rehearsal ? ' rehearsal' : ''}`)
    const reason = await lane()
    if (reason) return reason
    const slots = new Places(3)
    const silent = new Places(1)
    const first = laneState()
    return {
      via: { gateway: 'https://gateway.example', credential: 'signing-key 00112233' },
      slotsOf: ({ token }) => (token.startsWith('silent') ? silent : slots),
      leadsToMany: platform === 'web',
      get state() {
        return turned ?? first
      },
      prepare: async () => ({
        async send({ token }) {
          inFlight.now++
          inFlight.most = Math.max(inFlight.most, inFlight.now)
          await new Promise((done) => setTimeout(done, 1))
          inFlight.now--
          return answer(token)
        },
      }),
    }
  },
}

const run = (claim: SendClaim, options = {}) =>
  sendBlock(claim, notification, store, gateways, {
    ...sendBlockDefaults,
    chance: () => 0,
    onFault: (error) => faults.push(error),
    ...options,
  })

const ends = () =>
  stored
    .flatMap(({ ended }) => ended.map(({ deviceNo, state, reason }) => [deviceNo, state, reason]))
    .sort((a, b) => Number(a[0]) - Number(b[0]))

describe('a block', () => {
  test('sends virtual handsets a way of their own, and notes once what was accepted where', async () => {
    fleet = [device(1), device(2, { token: 'handset-2' }), device(3), device(4, { token: 'handset-4' })]
    await run(claimOf([1, 2, 3, 4]))
    expect(opened).toEqual(['ios', 'ios rehearsal'])
    expect(noted.sort()).toEqual(['ios', 'ios rehearsal'])
    expect(ends().map(([, state]) => state)).toEqual(['accepted', 'accepted', 'accepted', 'accepted'])
  })

  test('ends each device by what it is and by what the gateway says', async () => {
    fleet = [
      device(1),
      device(2, { permission: 'denied' }),
      device(3, { muted: true }),
      device(4),
      device(5),
      device(6, { retired: true }),
    ]
    answer = async (token) =>
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
    expect(stored.at(-1)).toMatchObject({ remaining: [], retries: [] })
  })

  test('a push service that gives no answer holds up none of the others', async () => {
    fleet = [
      ...Array.from({ length: 5 }, (_, i) => device(i + 1, { platform: 'web', token: `silent-${i}` })),
      ...Array.from({ length: 20 }, (_, i) => device(i + 6, { platform: 'web', token: `good-${i}` })),
    ]
    let goods = 0
    let allGood: () => void = () => {}
    const lastGood = new Promise<void>((done) => {
      allGood = done
    })
    answer = async (token) => {
      if (token.startsWith('good')) {
        if (++goods === 20) allGood()
        return { is: 'accepted' }
      }
      await lastGood
      return { is: 'unavailable', silent: true }
    }
    await run(claimOf(fleet.map(({ no }) => no)))
    expect(ends().map(([no]) => no)).toEqual(Array.from({ length: 20 }, (_, i) => i + 6))
    expect(stored.at(-1)?.retries.flatMap(({ devices }) => devices)).toEqual([1, 2, 3, 4, 5])
  })

  test('a device is given up whose push service has been asked four times and never heard from', async () => {
    fleet = [device(1, { platform: 'web', token: 'silent' })]
    answer = async () => ({ is: 'unavailable', silent: true })
    await run(claimOf([1], { failures: 2 }))
    expect(ends()).toEqual([])
    await run(claimOf([1], { failures: 3 }))
    expect(ends()).toEqual([[1, 'refused', 'push-service-silent']])
  })

  describe('under restraint', () => {
    const cap = { name: 'offers', most: 1, hours: 24 }
    const always = (then: 'wait' | 'skip') => ({ from: '00:00', to: '00:00', then, belowUrgency: null })

    test('skips those on whose device its channel is blocked, and those who muted it', async () => {
      fleet = [device(1), device(2), device(3, { userNo: 30 })]
      restraint = { ...unrestrained, blocked: new Set([1]), mutedBy: new Set([30]) }
      await run(claimOf([1, 2, 3]))
      expect(ends()).toEqual([
        [1, 'skipped', 'channel-blocked'],
        [2, 'accepted', undefined],
        [3, 'skipped', 'channel-muted'],
      ])
    })

    test('lets those wait for whom quiet hours hold, until they end, without counting it as a try', async () => {
      fleet = [device(1, { timeZone: 'Asia/Tokyo' }), device(2, { timeZone: 'Europe/Oslo' })]
      const now = Date.parse('2027-01-12T14:00:00Z')
      const night = { from: '22:00', to: '07:00', then: 'wait' as const }
      restraint = { ...unrestrained, quiet: [night] }
      const ofLater = { ...notification, expiresAt: new Date(now + 86_400_000) }
      await sendBlock(claimOf([1, 2], { failures: 2 }), ofLater, store, gateways, {
        ...sendBlockDefaults,
        now: () => now,
        chance: () => 0,
      })
      expect(ends()).toEqual([[2, 'accepted', undefined]])
      // Seven in the morning of the next day in Tokyo.
      expect(stored.at(-1)?.retries).toEqual([
        { devices: [1], failures: 2, cause: 'quiet-hours', afterMs: 8 * 3_600_000 },
      ])
    })

    test('ends those who would wait for longer than it lives, and leaves out where that is asked', async () => {
      fleet = [device(1), device(2, { userNo: 20 })]
      restraint = { ...unrestrained, quiet: [always('wait')] }
      await run(claimOf([1, 2]))
      expect(ends()).toEqual([
        [1, 'expired', 'quiet-hours'],
        [2, 'expired', 'quiet-hours'],
      ])
      stored = []
      restraint = { ...unrestrained, own: new Map([[20, [always('skip')]]]) }
      await run(claimOf([1, 2]))
      expect(ends()).toEqual([
        [1, 'accepted', undefined],
        [2, 'skipped', 'quiet-hours'],
      ])
    })

    test('counts under caps each person once, and only who would ring; whom a cap leaves out is told which', async () => {
      fleet = [
        device(1, { userNo: 10 }),
        device(2, { userNo: 10 }),
        device(3),
        device(4, { userNo: 40, muted: true }),
        device(5, { userNo: 50 }),
      ]
      restraint = { ...unrestrained, caps: [cap] }
      over = new Map([[10, 'offers']])
      await run(claimOf([1, 2, 3, 4, 5]))
      expect(counted).toEqual([10, -3, 50])
      expect(ends()).toEqual([
        [1, 'skipped', 'over-cap'],
        [2, 'skipped', 'over-cap'],
        [3, 'accepted', undefined],
        [4, 'skipped', 'muted'],
        [5, 'accepted', undefined],
      ])
      expect(stored.flatMap(({ ended }) => ended).find(({ deviceNo }) => deviceNo === 1)?.detail).toBe('offers')
    })
  })

  test('never has more requests on their way than its lane has places', async () => {
    fleet = Array.from({ length: 30 }, (_, i) => device(i + 1))
    await run(claimOf(fleet.map(({ no }) => no)))
    expect(inFlight.most).toBe(3)
    expect(ends()).toHaveLength(30)
  })

  test('lets busy devices wait together, as long as the most patient answer asked', async () => {
    fleet = [device(1), device(2), device(3, { platform: 'android' })]
    answer = async (token) =>
      token === 'token-1'
        ? { is: 'busy', retryAfterMs: 7_000 }
        : token === 'token-2'
          ? { is: 'busy' }
          : { is: 'unavailable' }
    await run(claimOf([1, 2, 3], { failures: 1 }))
    expect(stored.at(-1)?.retries).toEqual([
      { devices: [1, 2], failures: 2, cause: 'gateway-busy', afterMs: 7_000 },
      { devices: [3], failures: 2, cause: 'gateway-unreachable', afterMs: 1_000 },
    ])
  })

  test('ends what would have to wait for longer than it may live, by the reason for the wait', async () => {
    fleet = [device(1)]
    answer = async () => ({ is: 'busy', retryAfterMs: 120_000 })
    await run(claimOf([1]))
    expect(ends()).toEqual([[1, 'expired', 'gateway-busy']])
  })

  test.each([
    [undefined, 'expired-in-queue'],
    ['gateway-unreachable', 'gateway-unreachable'],
  ] as const)('that comes too late, after %p, ends as expired', async (cause, reason) => {
    fleet = [device(1)]
    await run(claimOf([1], { cause, failures: cause ? 1 : 0 }), { now: () => notification.expiresAt.getTime() })
    expect(ends()).toEqual([[1, 'expired', reason]])
  })

  test('without a way to the gateway says why', async () => {
    fleet = [device(1)]
    lane = async () => 'no-credential'
    await run(claimOf([1]))
    expect(ends()).toEqual([[1, 'refused', 'no-credential']])
  })

  test('a fault at one device, or on the way to one gateway, holds up nobody else', async () => {
    fleet = [device(1), device(2)]
    answer = async (token) => {
      if (token === 'token-1') throw new Error('a fault of ours')
      return { is: 'accepted' }
    }
    await run(claimOf([1, 2]))
    expect(ends()).toEqual([[2, 'accepted', undefined]])
    expect(stored.at(-1)?.retries).toMatchObject([{ devices: [1], cause: 'internal-fault' }])
    expect(faults).toHaveLength(1)

    stored = []
    lane = async () => {
      throw new Error('the vault does not open')
    }
    await run(claimOf([1, 2]))
    expect(stored.at(-1)?.retries).toMatchObject([{ devices: [1, 2], cause: 'internal-fault' }])
  })

  test('what a gateway refuses for its credential waits for another one, and counts as no failure', async () => {
    fleet = [device(1), device(2)]
    answer = async (token) =>
      token === 'token-1' ? { is: 'refused', reason: 'credential-rejected' } : { is: 'accepted' }
    await run(claimOf([1, 2], { failures: 3 }))
    expect(ends()).toEqual([[2, 'accepted', undefined]])
    expect(stored.at(-1)?.retries).toEqual([
      { devices: [1], failures: 3, cause: 'credential-rejected', afterMs: 30_000 },
    ])
  })

  test('what was refused before another credential was put in use, and is stored after it, is woken again', async () => {
    fleet = [device(1)]
    answer = async () => {
      // Somebody replaces the credential while the refusal is on its way to the store.
      turned = 'stale'
      return { is: 'refused', reason: 'credential-rejected' }
    }
    const claim = claimOf([1])
    await run(claim)
    expect(stored.at(-1)?.retries).toMatchObject([{ devices: [1], cause: 'credential-rejected' }])
    expect(woken).toEqual([claim.appNo])
  })

  test('a halted lane sends nothing', async () => {
    fleet = [device(1), device(2)]
    laneState = () => 'halted'
    await run(claimOf([1, 2]))
    expect([inFlight.most, ends()]).toEqual([0, []])
    expect(stored.at(-1)?.retries).toMatchObject([{ devices: [1, 2], cause: 'credential-rejected' }])
  })

  test('a stale lane is looked for anew in the middle of a block', async () => {
    fleet = [device(1), device(2), device(3)]
    let opened = 0
    laneState = () => (++opened === 1 ? 'stale' : 'open')
    await run(claimOf([1, 2, 3]))
    expect(opened).toBe(2)
    expect(ends()).toHaveLength(3)
  })

  test('stores on the way, and stops when its lease is lost', async () => {
    fleet = Array.from({ length: 40 }, (_, i) => device(i + 1))
    await run(claimOf(fleet.map(({ no }) => no)), { storeEveryMs: 0 })
    expect(stored.length).toBeGreaterThan(2)
    for (const [i, { ended, remaining }] of stored.entries()) {
      const before = stored.slice(0, i).flatMap((one) => one.ended).length
      if (i < stored.length - 1) expect(before + ended.length + remaining.length).toBe(40)
    }
    stored = []
    holds = false
    expect(await run(claimOf(fleet.map(({ no }) => no)), { storeEveryMs: 0 })).toBe(false)
    expect(ends().length).toBeLessThan(40)
  })
})

describe('a worker', () => {
  const options = { atOnce: 2, leaseMs: 3_000, pollMs: 5 }
  const until = async (isSo: () => boolean, withinMs = 60_000) => {
    for (let i = 0; i < withinMs / 5 && !isSo(); i++) await new Promise((done) => setTimeout(done, 5))
    expect(isSo()).toBe(true)
  }

  test('never asks for work that it holds already', async () => {
    fleet = [device(1)]
    let answered: (outcome: Outcome) => void = () => {}
    answer = () =>
      new Promise((done) => {
        answered = done
      })
    const asked: (readonly number[])[] = []
    const own = {
      ...store,
      claim: async (held: readonly number[]) => {
        asked.push([...held])
        return asked.length === 1 ? { claim: claimOf([1]), notification } : undefined
      },
      extend: async () => true,
    } as unknown as WorkStore
    const worker = new Worker(own, gateways, options, makeLog('silent'), { onStored: () => {} })
    worker.start()
    await until(() => asked.length > 3 && inFlight.most > 0)
    await new Promise((done) => setTimeout(done, 10))
    answered({ is: 'accepted' })
    await until(() => stored.length === 1)
    await worker.stop(1_000)
    expect(asked.slice(0, 3)).toEqual([[], [1], [1]])
    expect(asked.at(-1)).toEqual([])
  })

  test('gives back work at which it failed, and survives a database that is away', async () => {
    const released: number[] = []
    let asked = 0
    const own = {
      ...store,
      claim: async () => {
        asked++
        if (asked === 1) throw new Error('away')
        return asked === 2 ? { claim: claimOf([1]), notification } : undefined
      },
      devices: async () => {
        throw new Error('away')
      },
      extend: async () => true,
      release: async (claim: Claim) => void released.push(claim.no),
    } as unknown as WorkStore
    const worker = new Worker(own, gateways, options, makeLog('silent'), { onStored: () => {} })
    worker.start()
    await until(() => released.length === 1 && asked > 3)
    await worker.stop(1_000)
    expect(released).toEqual([1])
  })
})

describe('a worker that is told to stop', () => {
  /** One that has claimed a block of ten devices and waits for answers to the first three. */
  const busyWorker = async () => {
    fleet = Array.from({ length: 10 }, (_, i) => device(i + 1))
    const answers: ((outcome: Outcome) => void)[] = []
    answer = () => new Promise((done) => answers.push(done))
    let claims = 0
    const own = {
      ...store,
      claim: async () => (++claims === 1 ? { claim: claimOf(fleet.map(({ no }) => no)), notification } : undefined),
      extend: async () => true,
      holds: async () => new Map(),
    } as unknown as WorkStore
    const options = { atOnce: 2, leaseMs: 3_000, pollMs: 5 }
    const worker = new Worker(own, gateways, options, makeLog('silent'), { onStored: () => {} })
    worker.start()
    while (answers.length < 3) await new Promise((done) => setTimeout(done, 1))
    return { worker, answers }
  }

  test('launches nothing more, stores what lands, and gives the rest back at once', async () => {
    const { worker, answers } = await busyWorker()
    const stopped = worker.stop(60_000)
    for (const done of answers) done({ is: 'accepted' })
    await stopped
    expect(answers).toHaveLength(3)
    expect(stored).toMatchObject([{ remaining: [4, 5, 6, 7, 8, 9, 10], retries: [], giveBack: true }])
    expect(ends()).toEqual([1, 2, 3].map((no) => [no, 'accepted', undefined]))
  })

  test('does not wait for a gateway that is silent: what is in the air goes back with the rest', async () => {
    const { worker, answers } = await busyWorker()
    answers[0]!({ is: 'accepted' })
    await worker.stop(20)
    expect(ends()).toEqual([[1, 'accepted', undefined]])
    expect(stored.at(-1)?.remaining).toEqual([2, 3, 4, 5, 6, 7, 8, 9, 10])
    for (const done of answers) done({ is: 'accepted' })
    await new Promise((done) => setTimeout(done, 5))
    expect(answers).toHaveLength(3)
    expect(ends()).toHaveLength(1)
  })
})

describe('what a gateway answered', () => {
  const answers = () => stored.flatMap(({ ended }) => ended).sort((a, b) => a.deviceNo - b.deviceNo)

  test('is stored with each delivery that it ended: where, as whom, and what it said', async () => {
    fleet = [device(1), device(2), device(3)]
    answer = async (token) =>
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
    fleet = [device(1), device(2, { muted: true })]
    await run(claimOf([1, 2]))
    expect(answers().map((one) => one.answer)).toEqual([undefined, undefined])
  })
})

describe('what was made ready ahead', () => {
  const ahead = () => prepareAhead(notification, fleet, gateways)

  test('is used: nothing is opened or shaped a second time', async () => {
    fleet = [device(1), device(2), device(3, { platform: 'android' })]
    const ready = await ahead()
    expect(opened).toEqual(['ios', 'android'])
    await sendBlock(claimOf([1, 2, 3]), notification, store, gateways, { ...sendBlockDefaults, chance: () => 0 }, ready)
    expect(opened).toEqual(['ios', 'android'])
    expect(ends()).toEqual([1, 2, 3].map((no) => [no, 'accepted', undefined]))
    expect(noted.sort()).toEqual(['android', 'ios'])
  })

  test('is nothing for many, who do not wait for it', async () => {
    fleet = Array.from({ length: 30 }, (_, i) => device(i + 1))
    await ahead()
    expect(opened).toEqual([])
  })

  test('leaves out a platform without a lane, and sending asks again and says why', async () => {
    fleet = [device(1)]
    lane = async () => 'no-credential'
    const ready = await ahead()
    await sendBlock(claimOf([1]), notification, store, gateways, { ...sendBlockDefaults, chance: () => 0 }, ready)
    expect(opened).toEqual(['ios', 'ios'])
    expect(ends()).toEqual([[1, 'refused', 'no-credential']])
  })

  test('is not believed when the credential was changed in between', async () => {
    fleet = [device(1)]
    laneState = () => 'stale'
    const ready = await ahead()
    laneState = () => 'open'
    await sendBlock(claimOf([1]), notification, store, gateways, { ...sendBlockDefaults, chance: () => 0 }, ready)
    expect(opened).toEqual(['ios', 'ios'])
    expect(ends()).toEqual([[1, 'accepted', undefined]])
  })
})
