import { afterAll, beforeAll, expect, test } from '@jest/globals'
import { Client } from '@zbell/contract'
import { Demo } from './harness/demo.ts'
import { startProgram } from './harness/programs.ts'

const demo = new Demo()
let client: Client

beforeAll(async () => {
  await demo.start(200)
  client = new Client({ url: demo.ready.service, bearer: demo.ready.backendKey })
})
afterAll(() => demo.close())

test('the demo has segments that count, and as many passengers as were asked for', async () => {
  const params = { app: 'merrow-sound' }
  expect(await client.call('countRule', { params, body: { rule: 'has(user.trips)' } })).toMatchObject({ people: 200 })
  const segments = await client.all('listSegments', { params })
  expect(segments.map(({ name }) => name)).toEqual([
    'commuters',
    'near-saltmere',
    'old-app',
    'quiet-for-a-month',
    'season-ending',
  ])
  for (const { name, rule } of segments) {
    const { people } = await client.call('countRule', { params, body: { rule } })
    expect([name, people > 0 && people < 150]).toEqual([name, true])
  }
})

test('a number that is none is refused in a sentence', async () => {
  await expect(startProgram('demo.mjs', ['--riders', 'many'], process.env)).rejects.toThrow(
    '--riders wants a number from 0 to 10000.',
  )
})
