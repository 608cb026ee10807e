import { randomBytes } from 'node:crypto'
import { uuidV7 } from '@zbell/core'
import { nearestOf, RuleRefused } from '@zbell/core/rules'
import { Expression } from '@zbell/core/triggers'
import {
  batchMediaType,
  type CloudEvent,
  cloudEventOf,
  type EventKind,
  eventKindNames,
  eventKinds,
  eventMediaType,
  isEventKind,
  kindPattern,
  kindsMeant,
  newSigningSecret,
} from '@zbell/core/webhooks'
import { checkCount } from '../api/index.ts'
import { invalid, nodeCrypto, Problem } from '../base/index.ts'
import { type Scope, whereOf } from '../database/index.ts'
import { makeEntriesDue, type OutboxState, outboxState, packEvents, unpackPage } from '../events/index.ts'
import { AddressNotAllowed } from '../net/index.ts'
import { hiddenSecret, SealBroken, withoutSecrets, withSecrets } from '../vault/index.ts'
import { headersOf } from './dispatch-round.ts'
import type { DispatcherParts, WebhookDispatcher } from './dispatcher.ts'
import { openWebhook, sealWebhook, signingSecrets, type WebhookSecrets } from './secrets.ts'
import {
  findEntry,
  type LogFilter,
  type LogRow,
  listLog,
  logStatement,
  replay,
  replaySpan,
  type Span,
} from './store/log.ts'
import { deleteWebhook, enableWebhook, saveWebhook, type WebhookRow, webhookStore } from './store/webhooks.ts'

/** So many webhooks an app may have in an environment. */
const maxWebhooks = 100
/** A secret that was replaced signs for so long more, unless somebody says otherwise. */
const keptHoursDefault = 24
/** So many events are told again by one request. */
const maxReplayed = 1_000_000

/** A webhook as somebody writes it. */
export type WrittenWebhook = {
  readonly url?: string | undefined
  readonly kinds: readonly string[]
  readonly when?: string | undefined
  readonly batch: number
  readonly ca?: string | undefined
  /** Left out: as it is; a new one is on. */
  readonly enabled?: boolean | undefined
}

/** A webhook as it may be shown. */
export type ShownWebhook = {
  readonly row: WebhookRow
  /** Without what is secret of it; null where no master key opens it any more. */
  readonly url: string | null
  /** Until when each secret signs that was replaced. */
  readonly olderUntil: readonly Date[]
  readonly waiting: OutboxState
  /** The one that was made just now. */
  readonly secret: string | undefined
}

/** A request, and what came back. */
type ShownRequest = {
  readonly url: string | null
  readonly headers: Readonly<Record<string, string>>
  readonly body: string
}

/** The use cases of webhooks. */
export class Webhooks {
  readonly #parts: DispatcherParts
  readonly #dispatcher: WebhookDispatcher

  constructor(parts: DispatcherParts, dispatcher: WebhookDispatcher) {
    this.#parts = parts
    this.#dispatcher = dispatcher
  }

  /** @throws {Problem} `unknown-webhook` */
  async require(scope: Scope, name: string): Promise<WebhookRow> {
    const found = await webhookStore.find(this.#parts.database, whereOf(scope), name)
    if (!found) throw new Problem('unknown-webhook', `There is no webhook ${name.slice(0, 80)}.`)
    return found
  }

  async show(row: WebhookRow, secret?: string): Promise<ShownWebhook> {
    const kept = this.#secretsIn(row)
    const now = Date.now()
    return {
      row,
      url: kept ? withoutSecrets(kept.url) : null,
      olderUntil: (kept?.secrets ?? []).flatMap(({ untilMs }) =>
        untilMs !== undefined && untilMs > now ? [new Date(untilMs)] : [],
      ),
      waiting: await outboxState(this.#parts.database, row.no),
      secret,
    }
  }

  /**
   * Saves a webhook; a new one gets a secret, which is shown this once.
   * @throws {Problem} `invalid-request` with each place
   */
  async save(scope: Scope, name: string, written: WrittenWebhook, actor: string): Promise<ShownWebhook> {
    const { database, vault } = this.#parts
    const where = whereOf(scope)
    checkCount('webhook', await webhookStore.countOthers(database, where, name), maxWebhooks)
    checkKinds(written.kinds)
    checkRule(written.when)
    const before = await webhookStore.find(database, where, name)
    const kept = before && this.#secretsIn(before)
    const url = this.#urlOf(written.url, kept?.url)
    const made = kept ? undefined : newSigningSecret(nodeCrypto)
    const secrets = made === undefined ? (kept?.secrets ?? []) : [{ text: made }]
    await saveWebhook(database, where, {
      name,
      kinds: written.kinds,
      rule: written.when ?? null,
      batch: written.batch,
      ca: written.ca ?? null,
      sealed: sealWebhook(vault, { ...where, name }, { url, secrets }),
      // One that its receiver had switched off is asked again, by whoever saves it.
      enabled: written.enabled ?? (before?.offBecause === null ? before.enabled : true),
      madeBy: actor,
    })
    const row = await this.require(scope, name)
    await this.#asked(row)
    return this.show(row, made)
  }

  /** Another secret signs from now on; the one before signs beside it for a while. */
  async changeSecret(scope: Scope, name: string, keptHours = keptHoursDefault): Promise<ShownWebhook> {
    const { database, vault } = this.#parts
    const row = await this.require(scope, name)
    const kept = this.#secretsIn(row)
    if (!kept)
      throw invalid('', 'has an address that no master key opens any more: save the webhook anew, with its url')
    const now = Date.now()
    const untilMs = now + keptHours * 3_600_000
    const [newest] = kept.secrets
    const made = newSigningSecret(nodeCrypto)
    // Two at once, and no more: a third would only be forgotten somewhere.
    const older = newest && keptHours > 0 ? [{ text: newest.text, untilMs }] : []
    await saveWebhook(database, row, {
      ...row,
      sealed: sealWebhook(vault, row, { ...kept, secrets: [{ text: made }, ...older] }),
    })
    return this.show(await this.require(scope, name), made)
  }

  async enable(scope: Scope, name: string, enabled: boolean): Promise<ShownWebhook> {
    const row = await this.require(scope, name)
    await enableWebhook(this.#parts.database, row.no, enabled)
    const now = await this.require(scope, name)
    await this.#asked(now)
    return this.show(now)
  }

  /** Whoever changes a webhook wants to know now whether it is heard. */
  async #asked({ no, enabled }: WebhookRow): Promise<void> {
    if (!enabled) return
    await makeEntriesDue(this.#parts.database, no)
    this.#parts.signals.emit('outbox')
  }

  async delete(scope: Scope, name: string): Promise<void> {
    const { no } = await this.require(scope, name)
    await deleteWebhook(this.#parts.database, no)
  }

  /** Sends the example of a kind, by hand; it is marked as one. @throws {Problem} `invalid-request` */
  async try(
    scope: Scope,
    name: string,
    kind: string | undefined,
  ): Promise<{ readonly request: ShownRequest; readonly entry: LogRow }> {
    const { database } = this.#parts
    const row = await this.require(scope, name)
    const kept = this.#secretsIn(row)
    if (!kept)
      throw invalid('', 'has an address that no master key opens any more: save the webhook anew, with its url')
    if (kind !== undefined && !isEventKind(kind)) throw invalid('/kind', `is no kind of event${orNearest(kind)}`)
    const event = this.#exampleFor(scope, kind ?? kindsMeant(row.kinds)[0] ?? 'device.registered')
    const text = JSON.stringify(event)
    const message =
      row.batch === 1
        ? { id: event.id, type: eventMediaType, body: text }
        : { id: event.id, type: batchMediaType, body: `[${text}]` }
    const headers = headersOf(message, signingSecrets(kept, Date.now()))
    const receiver = this.#dispatcher.open(kept.url, row.ca, 1)
    const posted = await receiver.post({ headers, body: message.body })
    await receiver.close()
    const tried = logStatement(row.no, [
      {
        message: message.id,
        kind: event.type,
        events: 1,
        attempt: 1,
        outcome: 'tried',
        status: posted.is === 'answered' ? posted.status : null,
        durationMs: posted.durationMs,
        says: posted.is === 'silent' ? posted.says : null,
        answer: posted.answer,
        again: false,
        body: await packEvents([text]),
        atMs: Date.now(),
      },
    ])
    await database.change(tried)
    const [entry] = await listLog(database, row.no, { outcome: 'tried' }, 1)
    return { request: { url: withoutSecrets(kept.url), headers, body: message.body }, entry: entry! }
  }

  #exampleFor({ app, environment }: Scope, kind: EventKind): CloudEvent & { readonly trial: true } {
    const { subject, example } = eventKinds[kind]
    const id = `${uuidV7(Date.now(), randomBytes(10))}-0`
    const origin = { app: app.slug, environment, service: this.#parts.service() }
    const { data, ...event } = cloudEventOf({ id, kind, atMs: Date.now(), subject, data: example }, origin)
    // An attribute of our own, before the data (CloudEvents 1.0.2 §3.2).
    return { ...event, trial: true, data }
  }

  async listLog(row: WebhookRow, filter: LogFilter, limit: number, before?: number): Promise<LogRow[]> {
    return listLog(this.#parts.database, row.no, filter, limit, before)
  }

  /** A request as it went out, but for its signatures. @throws {Problem} `unknown-webhook-entry` */
  async entry(row: WebhookRow, no: number): Promise<{ readonly request: ShownRequest | null; readonly entry: LogRow }> {
    const found = await findEntry(this.#parts.database, row.no, no)
    if (!found) throw noEntry(no)
    const { row: entry, body } = found
    if (body === null) return { entry, request: null }
    const page = await unpackPage(body)
    const events = page.is === 'events' ? page.events : []
    const isBatch = row.batch > 1 || entry.message.startsWith('batch-')
    const text = isBatch ? JSON.stringify(events) : JSON.stringify(events[0])
    const kept = this.#secretsIn(row)
    return {
      entry,
      request: {
        url: kept ? withoutSecrets(kept.url) : null,
        headers: {
          'content-type': isBatch ? batchMediaType : eventMediaType,
          'webhook-id': entry.message,
          'webhook-timestamp': String(Math.floor(entry.at.getTime() / 1_000)),
        },
        body: text,
      },
    }
  }

  /** Tells once more what one request told. @returns how many events */
  async replayEntry(scope: Scope, name: string, no: number, event?: string): Promise<number> {
    const { database } = this.#parts
    const row = await this.require(scope, name)
    const found = await findEntry(database, row.no, no)
    if (!found) throw noEntry(no)
    if (found.body === null)
      throw invalid('/entry', `is an attempt that was made again; what it told stands with the last one`)
    const page = await unpackPage(found.body)
    const all = page.is === 'events' ? page.events : []
    const own = event === undefined ? all : all.filter(({ id }) => id === event)
    if (own.length === 0) throw invalid('/event', `is no event of the entry ${no}`)
    const body = event === undefined ? found.body : await packEvents(own.map((one) => JSON.stringify(one)))
    await replay(database, row.no, { size: own.length, body })
    this.#parts.signals.emit('outbox')
    return own.length
  }

  /** Tells once more what was told, or given up, in a span of time. */
  async replaySpan(
    scope: Scope,
    name: string,
    span: Span,
  ): Promise<{ readonly events: number; readonly isAll: boolean }> {
    if (span.to <= span.from) throw invalid('/to', 'is not after “from”')
    const row = await this.require(scope, name)
    const told = await replaySpan(this.#parts.database, row.no, span, maxReplayed)
    this.#parts.signals.emit('outbox')
    return told
  }

  #secretsIn(row: WebhookRow): WebhookSecrets | undefined {
    try {
      return openWebhook(this.#parts.vault, row)
    } catch (error) {
      if (error instanceof SealBroken) return undefined
      throw error
    }
  }

  #urlOf(written: string | undefined, kept: string | undefined): string {
    const text = written === undefined ? kept : withSecrets(written, kept)
    if (text === undefined) throw invalid('/url', 'is needed: where it is told')
    if (!URL.canParse(text)) throw invalid('/url', 'is no address; it looks like https://host/path')
    if (text.includes(hiddenSecret))
      throw invalid(
        '/url',
        'hides what is secret of it, and is another address than the one that is kept: say it whole',
      )
    const url = new URL(text)
    const { guard } = this.#parts
    if (url.protocol !== 'https:' && url.protocol !== 'http:')
      throw invalid('/url', 'is no https address; it looks like https://host/path')
    if (url.protocol === 'http:' && guard.lookup !== undefined)
      throw invalid('/url', 'is not https: anybody on the way could read what is told; the operator can allow it')
    if (url.username !== '' || url.password !== '')
      throw invalid('/url', 'says a user; the signature is what shows who is speaking')
    if (url.hash !== '') throw invalid('/url', 'has a part behind #, which no server would ever see')
    try {
      guard.check(url)
    } catch (error) {
      if (!(error instanceof AddressNotAllowed)) throw error
      throw invalid('/url', `leads to where the service may not call: ${error.message}; the operator can allow it`)
    }
    return text
  }
}

const noEntry = (no: number): Problem =>
  new Problem('unknown-webhook-entry', `There is no entry ${no} in its log, or not any more.`)

function checkKinds(kinds: readonly string[]): void {
  for (const [at, pattern] of kinds.entries()) {
    if (kindPattern.test(pattern) && kindsMeant([pattern]).length > 0) continue
    throw invalid(`/kinds/${at}`, `means no kind of event${orNearest(pattern)}`)
  }
}

const families = [...new Set(eventKindNames.map((kind) => `${kind.split('.')[0]}.*`))]

function orNearest(text: string): string {
  const nearest = nearestOf(text, [...eventKindNames, ...families])
  return nearest === undefined ? '; the catalogue of kinds has all of them' : `; the nearest is ${nearest}`
}

function checkRule(text: string | undefined): void {
  if (text === undefined) return
  try {
    new Expression(text, ['event', 'now'])
  } catch (error) {
    if (!(error instanceof RuleRefused)) throw error
    throw invalid('/when', error.message)
  }
}
