import { expect, test } from '@jest/globals'
import fc from 'fast-check'
import { inScope } from '../../../e2e/harness/scope.ts'
import { readIncoming } from '../src/browser/incoming.ts'
import { memoryStorage, ReceiptBook, Reception, readCommands } from '../src/states.ts'

const numRuns = inScope({ default: 300, all: 1_000, long: 50_000 })
const names = ['web_push', 'notification', 'zephyr', 'title', 'mode', 'commands', 'plans', 'cancel', 'withdraw', 'when']
const more = [
  'actions',
  'data',
  'id',
  'tag',
  'name',
  'content',
  'from',
  'repeat',
  'local',
  'at',
  'afterSeconds',
  'place',
]
/** JSON in which the members that are read stand where they do not belong, and what is read is of any type. */
const { json } = fc.letrec<{ json: unknown }>((tie) => ({
  json: fc.oneof(
    { maxDepth: 5 },
    fc.constantFrom(
      8030,
      'wake',
      'show',
      'T',
      '',
      null,
      true,
      -1,
      1e308,
      'FREQ=DAILY',
      '2026-12-01T08:00',
      '__proto__',
    ),
    fc.string({ unit: 'binary' }),
    fc.array(tie('json'), { maxLength: 4 }),
    fc.dictionary(fc.constantFrom(...names, ...more), tie('json'), { maxKeys: 6 }),
  ),
}))
/** Without a title nothing is read, and hardly any would have one by chance. */
const titled = fc.tuple(
  fc.dictionary(fc.constantFrom(...names, ...more), json),
  fc.string({ unit: 'binary', minLength: 1 }),
)
const notifications = fc.oneof(
  json,
  titled.map(([rest, title]) => ({ ...rest, title })),
)
const place = async () => undefined

test('whatever comes over a push service: it is read or not, shown or not, and nothing breaks', async () => {
  const receipts = new ReceiptBook(memoryStorage(), place)
  const where = { permission: 'granted', appState: 'closed', doNotDisturb: false, zone: 'Europe/Oslo' } as const
  let read = 0
  await fc.assert(
    fc.asyncProperty(notifications, json, async (notification, zephyr) => {
      const incoming = readIncoming(JSON.stringify({ web_push: 8030, notification, zephyr }))
      if (!incoming) return
      read++
      const { options, ...rest } = incoming
      const reception = new Reception(memoryStorage(), receipts)
      const became = await reception.arrive({ ...rest, ...options }, where, new Date())
      expect(['shown', 'woken', 'silenced', 'withheld', 'second-copy', 'replaced']).toContain(became)
    }),
    { numRuns },
  )
  expect(read).toBeGreaterThan(numRuns / 4)
})

test('a message that was altered on its way is read or not, and nothing breaks', () => {
  const whole = JSON.stringify({
    web_push: 8030,
    notification: { title: 'The bay ferry is late', navigate: 'https://ferries.example/bay', tag: 'sailing-418' },
    zephyr: { notification: '018bcfe5-6800-7fff-bfff-000000000001', mode: 'show', commands: { cancel: ['a'] } },
  })
  fc.assert(
    fc.property(fc.nat(whole.length), fc.nat(8), fc.string({ unit: 'binary', maxLength: 8 }), (at, cut, put) => {
      const read = readIncoming(whole.slice(0, at) + put + whole.slice(at + cut))
      if (read) expect(typeof read.title).toBe('string')
    }),
    { numRuns },
  )
})

test('whatever commands come, those that can be obeyed are, and only those', () => {
  fc.assert(
    fc.property(json, (given) => {
      const { plans, cancel, withdraw } = readCommands(given)
      for (const { name, content } of plans) expect([typeof name, typeof content.title]).toEqual(['string', 'string'])
      for (const name of cancel) expect(typeof name).toBe('string')
      if (withdraw) expect(Object.keys(withdraw).length).toBeGreaterThan(0)
    }),
    { numRuns },
  )
})
