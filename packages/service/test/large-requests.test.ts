import { expect, test } from '@jest/globals'
import { LargeRequests } from '../src/http/large-requests.ts'

const busy = (ms: number) => {
  for (const untilMs = performance.now() + ms; performance.now() < untilMs; );
}
const readAtOnce = async () => {}
const backend = { appNo: 1, owner: 'backend 1' }

/** Work that ends when somebody says so. */
function held() {
  let end = () => {}
  const until = new Promise<void>((done) => {
    end = done
  })
  return { until, end }
}

test('large requests of an owner are handled one after the other, and those of others beside them', async () => {
  const large = new LargeRequests()
  const first = held()
  const order: string[] = []
  const note = (name: string) => async () => void order.push(name)
  const all = [
    large.run(backend, readAtOnce, () => first.until),
    large.run(backend, readAtOnce, note('second')),
    // What ships in the app has turns of its own.
    large.run({ appNo: 1, owner: 'device 7' }, readAtOnce, note('device')),
    large.run({ appNo: 2, owner: 'backend 2' }, readAtOnce, note('other')),
  ]
  await Promise.all(all.slice(2))
  first.end()
  await Promise.all(all)
  expect(order).toEqual(['device', 'other', 'second'])
})

test('a body that is sent slowly delays no other', async () => {
  const large = new LargeRequests()
  const body = held()
  const slow = large.run(backend, () => body.until, readAtOnce)
  await large.run(backend, readAtOnce, readAtOnce)
  body.end()
  await slow
})

test('one waits after the one before as long as that kept the loop busy, while other apps call', async () => {
  const large = new LargeRequests()
  const timed = async () => {
    // The loop’s utilization is known once it has gone round.
    await large.run(backend, readAtOnce, async () => {
      await new Promise(setImmediate)
      busy(150)
      await new Promise(setImmediate)
    })
    const startMs = performance.now()
    await large.run(backend, readAtOnce, readAtOnce)
    return performance.now() - startMs
  }
  large.note(1)
  const alone = await timed()
  large.note(2)
  large.note(1)
  const beside = await timed()
  expect([beside > 280, alone < beside]).toEqual([true, true])
})

test('what fails is heard by whoever asked, and ends its turn; more than twenty that wait are refused', async () => {
  const large = new LargeRequests()
  const first = held()
  const failing = large.run(backend, readAtOnce, async () => {
    await first.until
    throw new Error('it failed')
  })
  const waiting = Array.from({ length: 19 }, () => large.run(backend, readAtOnce, readAtOnce))
  await expect(large.run(backend, readAtOnce, readAtOnce)).rejects.toMatchObject({ code: 'too-many-requests' })
  first.end()
  await expect(failing).rejects.toThrow('it failed')
  await Promise.all(waiting)
  await large.run(backend, readAtOnce, readAtOnce)
})
