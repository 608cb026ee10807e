import { afterAll, beforeAll, expect, test } from '@jest/globals'
import type { Notification } from '@zbell/contract'
import { Client } from '@zbell/contract'
import { Demo } from '../harness/demo.ts'
import { processesOf } from '../harness/processes.ts'
import { startProgram, until } from '../harness/programs.ts'

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

test('a second demo runs beside the first, and neither hears the other', async () => {
  const other = await new Demo().start()
  try {
    expect(other.ready.service).not.toBe(demo.ready.service)
    await other.zbell('send', '--to', 'user:haru', '--title', 'Only here')
    expect((await demo.zbell('handset', 'show', 'haru-ios')).out).not.toContain('Only here')
    expect(
      (await other.zbell('device', 'list', '--url', other.ready.service, '--key', demo.ready.backendKey)).code,
    ).toBe(4)
  } finally {
    await other.close()
  }
})

test('a demo that is killed takes its service along, and starts again with everything', async () => {
  const other = await new Demo().start()
  try {
    const { service } = other.ready
    await other.zbell('send', '--to', 'user:haru', '--title', 'Before')
    await other.kill()
    await until(
      () => processesOf(other.data).filter((line) => !line.includes('mariadbd')),
      (left) => left.length === 0,
    )
    await other.start()
    expect(other.ready.service).toBe(service)
    const { items } = JSON.parse((await other.zbell('notification', 'list', '--json')).out) as {
      items: Notification[]
    }
    expect(items[0]?.content.title).toBe('Before')
  } finally {
    await other.close()
  }
  expect(processesOf(other.data)).toEqual([])
})
