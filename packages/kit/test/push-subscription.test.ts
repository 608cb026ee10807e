import { expect, test } from '@jest/globals'
import { browserSubscription } from '../src/browser/push-subscription.ts'

const key = 'BAAA'
const workerThat = (subscribe: () => Promise<PushSubscription>) => ({ pushManager: { subscribe } as PushManager })

test('a subscription of the browser is handed on', async () => {
  const json = { endpoint: 'https://push.example/1', keys: { p256dh: 'x', auth: 'y' } }
  const worker = workerThat(async () => ({ toJSON: () => json }) as unknown as PushSubscription)
  expect(await browserSubscription(worker, key)).toBe(json)
})

test.each<[string, Pick<ServiceWorkerRegistration, 'pushManager'>, RegExp]>([
  ['a browser without a push service', { pushManager: undefined as never }, /has no push service/],
  [
    'a push service that refuses',
    workerThat(() => Promise.reject(new DOMException('push service not available', 'AbortError'))),
    /could not be used \(AbortError\): push service not available/,
  ],
  ['a push service that never answers', workerThat(() => new Promise(() => {})), /gave no answer within 0.01 seconds/],
])('%s is said, and is waited for no longer', async (_name, worker, says) => {
  await expect(browserSubscription(worker, key, 10)).rejects.toThrow(says)
})
