import { beforeEach, describe, expect, test } from '@jest/globals'
import type { Outcome } from '@zbell/core'
import { makeLog } from '../src/base/log.ts'
import type { WorkStore } from '../src/engine/ports.ts'
import { prepareAhead } from '../src/engine/prepare-ahead.ts'
import { sendBlock } from '../src/engine/send-block.ts'
import { sendBlockDefaults } from '../src/engine/send-options.ts'
import { Signals } from '../src/engine/signals.ts'
import type { Claim } from '../src/engine/work.ts'
import { Worker } from '../src/engine/worker.ts'
import { claimOf, device } from './scratch-block.ts'
import { ends, gateways, notification, setStage, stage, store } from './scratch-sending.ts'

beforeEach(setStage)

describe('a worker', () => {
  const options = { atOnce: 2, leaseMs: 3_000, pollMs: 5 }
  const until = async (isSo: () => boolean, withinMs = 60_000) => {
    for (let i = 0; i < withinMs / 5 && !isSo(); i++) await new Promise((done) => setTimeout(done, 5))
    expect(isSo()).toBe(true)
  }

  test('never asks for work that it holds already', async () => {
    stage.fleet = [device(1)]
    let answered: (outcome: Outcome) => void = () => {}
    stage.answer = () =>
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
    const worker = new Worker(own, gateways, options, makeLog('silent'), new Signals())
    worker.start()
    await until(() => asked.length > 3 && stage.inFlight.most > 0)
    await new Promise((done) => setTimeout(done, 10))
    answered({ is: 'accepted' })
    await until(() => stage.stored.length === 1)
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
    const worker = new Worker(own, gateways, options, makeLog('silent'), new Signals())
    worker.start()
    await until(() => released.length === 1 && asked > 3)
    await worker.stop(1_000)
    expect(released).toEqual([1])
  })
})

describe('a worker that is told to stop', () => {
  /** One that has claimed a block of ten devices and waits for answers to the first three. */
  const busyWorker = async () => {
    stage.fleet = Array.from({ length: 10 }, (_, i) => device(i + 1))
    const answers: ((outcome: Outcome) => void)[] = []
    stage.answer = () => new Promise((done) => answers.push(done))
    let claims = 0
    const own = {
      ...store,
      claim: async () =>
        ++claims === 1 ? { claim: claimOf(stage.fleet.map(({ no }) => no)), notification } : undefined,
      extend: async () => true,
      holds: async () => new Map(),
    } as unknown as WorkStore
    const options = { atOnce: 2, leaseMs: 3_000, pollMs: 5 }
    const worker = new Worker(own, gateways, options, makeLog('silent'), new Signals())
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
    expect(stage.stored).toMatchObject([{ remaining: [4, 5, 6, 7, 8, 9, 10], retries: [], putBack: true }])
    expect(ends()).toEqual([1, 2, 3].map((no) => [no, 'accepted', undefined]))
  })

  test('does not wait for a gateway that is silent: what is in the air goes back with the rest', async () => {
    const { worker, answers } = await busyWorker()
    answers[0]!({ is: 'accepted' })
    await worker.stop(20)
    expect(ends()).toEqual([[1, 'accepted', undefined]])
    expect(stage.stored.at(-1)?.remaining).toEqual([2, 3, 4, 5, 6, 7, 8, 9, 10])
    for (const done of answers) done({ is: 'accepted' })
    await new Promise((done) => setTimeout(done, 5))
    expect(answers).toHaveLength(3)
    expect(ends()).toHaveLength(1)
  })
})

describe('what was made ready ahead', () => {
  const ahead = () => prepareAhead(notification, stage.fleet, gateways)

  test('is used: nothing is opened or shaped a second time', async () => {
    stage.fleet = [device(1), device(2), device(3, { platform: 'android' })]
    const ready = await ahead()
    expect(stage.opened).toEqual(['ios', 'android'])
    await sendBlock(claimOf([1, 2, 3]), notification, store, gateways, { ...sendBlockDefaults, chance: () => 0 }, ready)
    expect(stage.opened).toEqual(['ios', 'android'])
    expect(ends()).toEqual([1, 2, 3].map((no) => [no, 'accepted', undefined]))
    expect(stage.noted.sort()).toEqual(['android', 'ios'])
  })

  test('is nothing for many, who do not wait for it', async () => {
    stage.fleet = Array.from({ length: 30 }, (_, i) => device(i + 1))
    await ahead()
    expect(stage.opened).toEqual([])
  })

  test('leaves out a platform without a client, and sending asks again and says why', async () => {
    stage.fleet = [device(1)]
    stage.client = async () => 'no-credential'
    const ready = await ahead()
    await sendBlock(claimOf([1]), notification, store, gateways, { ...sendBlockDefaults, chance: () => 0 }, ready)
    expect(stage.opened).toEqual(['ios', 'ios'])
    expect(ends()).toEqual([[1, 'refused', 'no-credential']])
  })

  test('is not believed when the credential was changed in between', async () => {
    stage.fleet = [device(1)]
    stage.clientState = () => 'stale'
    const ready = await ahead()
    stage.clientState = () => 'open'
    await sendBlock(claimOf([1]), notification, store, gateways, { ...sendBlockDefaults, chance: () => 0 }, ready)
    expect(stage.opened).toEqual(['ios', 'ios'])
    expect(ends()).toEqual([[1, 'accepted', undefined]])
  })
})
