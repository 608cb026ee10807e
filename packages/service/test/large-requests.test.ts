import { setTimeout as wait } from 'node:timers/promises'
import { expect, test } from '@jest/globals'
import { LargeRequests } from '../src/http/large-requests.ts'

const busy = (ms: number) => {
  for (const untilMs = performance.now() + ms; performance.now() < untilMs; );
}

test('large requests of an app are handled one after the other, and those of another app beside them', async () => {
  const large = new LargeRequests()
  const endFirst = await large.begin(1)
  const order: string[] = []
  const second = large.begin(1).then((end) => {
    order.push('second')
    end()
  })
  const endOther = await large.begin(2)
  order.push('other')
  endFirst()
  await second
  endOther()
  expect(order).toEqual(['other', 'second'])
})

test('one waits after the one before as long as that kept the loop busy, while other apps call', async () => {
  const large = new LargeRequests()
  const timed = async () => {
    const end = await large.begin(1)
    busy(150)
    // The loop’s utilization is known once it has gone round.
    await wait(1)
    const startMs = performance.now()
    end()
    const next = await large.begin(1)
    next()
    return performance.now() - startMs
  }
  large.note(1)
  const alone = await timed()
  large.note(2)
  large.note(1)
  const beside = await timed()
  expect([beside > 280, alone < beside]).toEqual([true, true])
})

test('more than twenty that wait are refused', async () => {
  const large = new LargeRequests()
  const end = await large.begin(1)
  const waiting = Array.from({ length: 20 }, () => large.begin(1).then((done) => done()))
  await expect(large.begin(1)).rejects.toMatchObject({ code: 'too-many-requests' })
  end()
  await Promise.all(waiting)
  ;(await large.begin(1))()
})
