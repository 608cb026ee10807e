import { promisify } from 'node:util'
import { deflate, inflate } from 'node:zlib'
import type { CloudEvent, EventKind } from '@zbell/core/webhooks'

/** What happened, written down as it happened: all of it. */
export type Fact = {
  readonly kind: EventKind
  readonly subject: string
  readonly data: Readonly<Record<string, unknown>>
}

/** What became of deliveries of one notification, alike but for the device: a broadcast has a million of them. */
export type DeliveryGroup = {
  readonly kind: EventKind
  readonly reason?: string | null | undefined
  readonly status?: number | null | undefined
  readonly says?: string | null | undefined
  readonly action?: string | undefined
  /** The number of its first event in the page. */
  readonly first: number
  readonly devices: readonly number[]
  /** Who had them; 0 for nobody. */
  readonly users: readonly number[]
  /** After the page’s moment, in ms. */
  readonly at: readonly number[]
}

/** Events that happened together; the id of each is that of the page with a number behind it. */
export type Page =
  | {
      readonly is: 'facts'
      readonly id: string
      readonly atMs: number
      /** The number of each event in its page, with what happened. */
      readonly facts: readonly (readonly [number, Fact])[]
    }
  | {
      readonly is: 'deliveries'
      readonly id: string
      readonly atMs: number
      readonly notificationNo: number
      readonly groups: readonly DeliveryGroup[]
    }
  /** As they went out, or were to. */
  | { readonly is: 'events'; readonly events: readonly CloudEvent[] }

const packing = promisify(deflate)
const unpacking = promisify(inflate)

/** Shorter ones are kept as they are. */
const packedFrom = 2_000
const [brace, bracket] = [0x7b, 0x5b]

export const packPage = (page: Exclude<Page, { is: 'events' }>): Buffer => Buffer.from(JSON.stringify(page))

/** Events as they are sent, packed where that is worth it. @param texts each an event */
export async function packEvents(texts: readonly string[]): Promise<Buffer> {
  const text = Buffer.from(`[${texts.join(',')}]`)
  return text.length < packedFrom ? text : packing(text, { level: 1 })
}

export async function unpackPage(body: Buffer): Promise<Page> {
  if (body[0] === brace) return JSON.parse(body.toString('utf8')) as Page
  const text = body[0] === bracket ? body : await unpacking(body)
  return { is: 'events', events: JSON.parse(text.toString('utf8')) as CloudEvent[] }
}
