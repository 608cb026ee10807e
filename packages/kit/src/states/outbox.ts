import { type Client, ProblemError } from '@zbell/contract/client'
import { Kept } from './kept.ts'
import type { KitStorage } from './storage.ts'

/** What a device says of itself and its user, beside its registration. */
export type Saying =
  | { readonly say: 'join' | 'leave'; readonly topic: string }
  | { readonly say: 'channel'; readonly channel: string; readonly muted: boolean }
  | { readonly say: 'quiet-hours'; readonly quietHours: readonly unknown[] }
  | { readonly say: 'attributes'; readonly values: Readonly<Record<string, unknown>> }
  | { readonly say: 'occurrence'; readonly event: Readonly<Record<string, unknown>> }

/** Beyond it the oldest go. */
const maxWaiting = 200

/** Sayings wait here, in their order, until the service has heard them: offline, and over restarts. */
export class Outbox {
  readonly #waiting: Kept<readonly Saying[]>
  readonly #client: () => Promise<Client | undefined>
  #flushing: Promise<boolean> | undefined

  constructor(storage: KitStorage, client: () => Promise<Client | undefined>) {
    this.#waiting = new Kept(storage, 'outbox', [])
    this.#client = client
  }

  async add(saying: Saying): Promise<void> {
    await this.#waiting.change((all) => [...all, saying].slice(-maxWaiting))
  }

  /** @returns false when something still waits, for a later try @throws {ProblemError} the first saying that was refused, which is dropped */
  flush(): Promise<boolean> {
    this.#flushing ??= this.#flushAll().finally(() => {
      this.#flushing = undefined
    })
    return this.#flushing
  }

  async #flushAll(): Promise<boolean> {
    for (;;) {
      const [first] = await this.#waiting.read()
      if (!first) return true
      const client = await this.#client()
      if (!client) return false
      try {
        await say(client, first)
      } catch (error) {
        if (!(error instanceof ProblemError)) return false
        const { status } = error.problem
        if (status === 401 || status === 429 || status >= 500) return false
        await this.#drop()
        throw error
      }
      await this.#drop()
    }
  }

  async #drop(): Promise<void> {
    await this.#waiting.change((all) => all.slice(1))
  }
}

async function say(client: Client, saying: Saying): Promise<void> {
  switch (saying.say) {
    case 'join':
      await client.call('joinOwnTopic', { params: { topic: saying.topic } })
      break
    case 'leave':
      await client.call('leaveOwnTopic', { params: { topic: saying.topic } })
      break
    case 'channel':
      await client.call('changeOwnChannel', { params: { channel: saying.channel }, body: { muted: saying.muted } })
      break
    case 'quiet-hours':
      await client.call('saveOwnQuietHours', { body: { quietHours: saying.quietHours } as never })
      break
    case 'attributes':
      await client.call('changeOwnAttributes', { body: saying.values as never })
      break
    case 'occurrence':
      await client.call('reportOwnOccurrences', { body: saying.event as never })
      break
    default:
      saying satisfies never
  }
}
