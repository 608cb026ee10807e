import { expect, test } from '@jest/globals'
import { WrongTries } from '../src/accounts/wrong-tries.ts'

const tried = () => {
  const waits: number[] = []
  return { waits, tries: new WrongTries(async (ms) => void waits.push(ms)) }
}
const wrong = async () => undefined
const right = async () => 'ada'

test('answers to wrong tries come later and later, up to a bound, and right ones begin anew', async () => {
  const { waits, tries } = tried()
  for (let n = 0; n < 12; n++) expect(await tries.at('ada', wrong)).toEqual({ found: undefined, wrong: n + 1 })
  expect(waits).toEqual([250, 500, 1_000, 2_000, 4_000, 8_000, 8_000, 8_000, 8_000])
  expect(await tries.at('ada', right)).toEqual({ found: 'ada', wrong: 0 })
  waits.length = 0
  await tries.at('ada', wrong)
  expect(waits).toEqual([])
})

test('tries at one name wait for each other, and others do not wait for them', async () => {
  const { tries } = tried()
  const order: string[] = []
  let letGo = () => {}
  const held = new Promise<void>((done) => {
    letGo = done
  })
  const first = tries.at('ada', async () => {
    await held
    order.push('first')
    return undefined
  })
  const second = tries.at('ada', async () => {
    order.push('second')
    return 'ada'
  })
  expect((await tries.at('haru', right)).found).toBe('ada')
  expect(order).toEqual([])
  letGo()
  await Promise.all([first, second])
  expect(order).toEqual(['first', 'second'])
})

test('only so many wait for one name, and a look that fails keeps nobody out', async () => {
  const { tries } = tried()
  let letGo = () => {}
  const held = new Promise<undefined>((done) => {
    letGo = () => done(undefined)
  })
  const waiting = Array.from({ length: 10 }, () => tries.at('ada', () => held))
  await expect(tries.at('ada', right)).rejects.toMatchObject({ code: 'too-many-requests' })
  letGo()
  await Promise.all(waiting)
  await expect(tries.at('ada', () => Promise.reject(new Error('away')))).rejects.toThrow('away')
  expect((await tries.at('ada', right)).found).toBe('ada')
})
