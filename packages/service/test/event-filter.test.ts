import { describe, expect, test } from '@jest/globals'
import type { CloudEvent } from '@zbell/core/webhooks'
import { eventFilter } from '../src/webhooks/event-filter.ts'
import { evaluators } from './scratch-evaluator-pool.ts'

const event = (id: string, data: object) => ({ id, type: 'delivery.shown', data }) as unknown as CloudEvent
const events = [event('1', { list: ['a', 'b'] }), event('2', { list: ['b'] }), event('3', { list: [] })]
const filtered = async (rule: string | null, of = events) =>
  (await eventFilter(evaluators, 1, rule)(of)).map(({ id }) => id)

describe('the rule of a webhook', () => {
  test.each([
    ['none', null, ['1', '2', '3']],
    ['that is asked here', 'event.data.list.size() > 0', ['1', '2']],
    ['that is asked apart', 'event.data.list.exists(x, x == "a")', ['1']],
    ['that is neither yes nor no', 'event.data.none == 1', []],
  ])('%s leaves what it wants', async (_name, rule, ids) => {
    expect(await filtered(rule)).toEqual(ids)
  })

  test('that never ends, or wants all memory, is stopped, and nothing is told or lost by it', async () => {
    const chain = `event.data.list${`.map(x, [${Array(38).fill('x').join(', ')}])`.repeat(4)}`
    await expect(filtered(chain, [event('1', { list: Array(20).fill('a') })])).rejects.toThrow(/stopped|memory/)
  })
})
