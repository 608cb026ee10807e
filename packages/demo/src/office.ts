import { createHmac, timingSafeEqual } from 'node:crypto'
import { existsSync, readFileSync, writeFileSync } from 'node:fs'
import { type Client, ProblemError } from '@zbell/contract/client'
import { type Reason, reasons } from '@zbell/core'
import { ferries, passengers } from './scenario/scenario.ts'

const webhook = 'office'
/** Older than that, a request may be one that somebody caught and sends again. */
const toleranceSeconds = 300
/** So many of the last events are remembered, so that one that comes twice counts once. */
const remembered = 1_000
const shown = 8

/** What the office is told. */
const kinds = [
  'device.retired',
  'device.revived',
  'device.permission',
  'delivery.refused',
  'delivery.action',
  'credential.*',
  'trigger.paused',
  'source.away',
]

type Event = {
  readonly id: string
  readonly type: string
  readonly time: string
  readonly subject: string
  readonly data: Readonly<Record<string, unknown>>
  /** An example, sent by hand. */
  readonly trial?: boolean
}

/** A line of what the office has heard. */
export type OfficeLine = { readonly at: string; readonly kind: string; readonly says: string }

/** The ferry company’s own server: it believes what is signed, takes each event once, and says it in words. */
export class Office {
  readonly #file: string
  #secret = ''
  readonly #seen = new Set<string>()
  readonly #lines: OfficeLine[] = []
  readonly #listeners = new Set<(lines: readonly OfficeLine[]) => void>()
  readonly #print: (line: string) => void

  /** @param file where its secret is kept from one start to the next @param print hears each line */
  constructor(file: string, print: (line: string) => void) {
    this.#file = file
    this.#print = print
    if (existsSync(file)) this.#secret = readFileSync(file, 'utf8').trim()
  }

  /** Asks to be told, at the address at which it answers now. @param address of this office */
  async listen(backend: Client, address: string): Promise<void> {
    const params = { app: ferries.slug, webhook }
    const known = await backend.call('readWebhook', { params }).catch((error: unknown) => {
      if (error instanceof ProblemError && error.problem.code === 'unknown-webhook') return undefined
      throw error
    })
    const saved =
      known && this.#secret === ''
        ? await backend.call('changeWebhookSecret', { params, body: { keepHours: 0 } })
        : undefined
    const told = await backend.call('saveWebhook', {
      params,
      body: { url: address, kinds: known?.kinds ?? kinds, enabled: known?.enabled ?? true },
    })
    const secret = told.secret ?? saved?.secret
    if (!secret) return
    this.#secret = secret
    writeFileSync(this.#file, secret, { mode: 0o600 })
  }

  /**
   * Takes what was posted.
   * @param headers by their names in small letters
   * @returns the status of its answer
   */
  take(headers: Readonly<Record<string, string | string[] | undefined>>, body: Buffer): number {
    if (!isSigned(this.#secret, headers, body)) return 401
    const given = JSON.parse(body.toString('utf8')) as Event | Event[]
    for (const event of Array.isArray(given) ? given : [given]) this.#hear(event)
    return 204
  }

  #hear({ id, type, time, data, trial = false }: Event): void {
    // At least once is what is promised: whoever has seen an event does not act on it again.
    if (this.#seen.has(id)) return
    this.#seen.add(id)
    if (this.#seen.size > remembered) this.#seen.delete(this.#seen.values().next().value!)
    const line = { at: time, kind: type, says: `${trial ? 'For example: ' : ''}${inWords(type, data)}` }
    this.#lines.unshift(line)
    this.#lines.splice(shown)
    this.#print(`  office   ${type}: ${line.says}`)
    for (const listener of this.#listeners) listener(this.#lines)
  }

  /** @param listener hears the last lines now, and whenever there are others @returns ends it */
  watch(listener: (lines: readonly OfficeLine[]) => void): () => void {
    this.#listeners.add(listener)
    listener(this.#lines)
    return () => void this.#listeners.delete(listener)
  }
}

/** As docs/webhooks.md says that a receiver verifies. */
function isSigned(
  secret: string,
  headers: Readonly<Record<string, string | string[] | undefined>>,
  body: Buffer,
): boolean {
  const { 'webhook-id': id, 'webhook-timestamp': at, 'webhook-signature': given } = headers
  if (Math.abs(Date.now() / 1_000 - Number(at)) > toleranceSeconds) return false
  const key = Buffer.from(secret.replace('whsec_', ''), 'base64')
  const expected = createHmac('sha256', key).update(`${id}.${at}.`).update(body).digest()
  return String(given)
    .split(' ')
    .some((one) => {
      const signature = Buffer.from(one.replace('v1,', ''), 'base64')
      return signature.length === expected.length && timingSafeEqual(signature, expected)
    })
}

const nameOf = (user: unknown): string =>
  passengers.find((one) => one.user === user)?.name ?? (typeof user === 'string' ? user : 'somebody without a name')

const whyGone: Readonly<Record<string, string>> = {
  'token-gone': 'the gateway knows it no more',
  'push-service-silent': 'its push service never answers',
  'token-moved': 'another installation has its token',
  unregistered: 'the app said goodbye',
}

function inWords(type: string, data: Readonly<Record<string, unknown>>): string {
  const whose = `${nameOf(data.user)}’s ${data.platform === 'web' ? 'browser' : 'phone'}`
  switch (type) {
    case 'device.retired':
      return `${whose} is gone: ${whyGone[String(data.reason)] ?? String(data.reason)}. Write a letter, or call.`
    case 'device.revived':
      return `${whose} is back.`
    case 'device.permission':
      return `${whose} ${data.permission === 'granted' ? 'may be rung' : 'may not be rung any more'}.`
    case 'delivery.refused':
      return `${whose} was not rung. ${Object.hasOwn(reasons, String(data.reason)) ? reasons[data.reason as Reason].detail : ''}`
    case 'delivery.action':
      return `${nameOf(data.user)} pressed “${String(data.action)}”.`
    default:
      return Object.values(data).map(String).join(', ')
  }
}
