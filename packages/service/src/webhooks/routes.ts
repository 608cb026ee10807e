import { type Role, type Webhook, type WebhookEntry, webhookName } from '@zbell/contract'
import { cloudEventOf, dataSchemaOf, eventKinds, isEventKind, kindsMeant } from '@zbell/core/webhooks'
import {
  type Api,
  checkName,
  type Handler,
  numberAtPlace,
  pageByName,
  pageView,
  type RateLimits,
} from '../api/index.ts'
import { Problem } from '../base/index.ts'
import { type Database, whereOf } from '../database/index.ts'
import { withoutPath } from '../vault/index.ts'
import type { LogRow } from './store/log.ts'
import { webhookStore } from './store/webhooks.ts'
import type { ShownWebhook, Webhooks } from './webhooks.ts'

export function serveWebhooks(
  api: Api,
  database: Database,
  limits: RateLimits,
  webhooks: Webhooks,
  base: () => string,
): void {
  api.serve('listWebhooks', async ({ caller: { scope, role }, query }) => {
    const read = (limit: number, after?: string) => webhookStore.list(database, whereOf(scope), limit, after)
    const { items, next } = await pageByName(query, read, (row) => webhooks.show(row))
    return { items: (await Promise.all(items)).map((one) => webhookView(one, role)), next }
  })

  api.serve('readWebhook', async ({ caller: { scope, role }, params }) =>
    webhookView(await webhooks.show(await webhooks.require(scope, params.webhook)), role),
  )

  api.serve('saveWebhook', async ({ caller: { scope, actor, role }, params: { webhook: name }, body }) => {
    checkName(webhookName, 'webhook', name)
    return webhookView(await webhooks.save(scope, name, body, actor), role)
  })

  api.serve('changeWebhook', async ({ caller: { scope, role }, params, body }) =>
    webhookView(await webhooks.enable(scope, params.webhook, body.enabled), role),
  )

  api.serve('deleteWebhook', async ({ caller: { scope }, params }) => {
    await webhooks.delete(scope, params.webhook)
    return undefined
  })

  api.serve('changeWebhookSecret', async ({ caller: { scope, role }, params, body }) =>
    webhookView(await webhooks.changeSecret(scope, params.webhook, body.keepHours), role),
  )

  api.serve('tryWebhook', async ({ caller: { scope, role }, params, body }) => {
    const { request, entry } = await webhooks.try(scope, params.webhook, body.kind)
    return { entry: entryView(entry), request: shownTo(role, request), answer: entry.answer }
  })

  api.serve('listWebhookLog', async ({ caller: { scope }, params, query: { limit, after, outcome, kind } }) => {
    const row = await webhooks.require(scope, params.webhook)
    const rows = await webhooks.listLog(row, { outcome, kind }, limit + 1, numberAtPlace(after))
    return pageView(rows, limit, ({ no }) => String(no), entryView)
  })

  api.serve('readWebhookRequest', async ({ caller: { scope, role }, params }) => {
    const row = await webhooks.require(scope, params.webhook)
    const { request, entry } = await webhooks.entry(row, entryNo(params.entry))
    return { entry: entryView(entry), request: request && shownTo(role, request), answer: entry.answer }
  })

  api.serve('replayWebhook', async ({ caller: { scope }, params, body, response }) => {
    await limits.replays(scope, response)
    if ('entry' in body)
      return { events: await webhooks.replayEntry(scope, params.webhook, body.entry, body.event), isAll: true }
    const { from, to, outcome, kind } = body
    return webhooks.replaySpan(scope, params.webhook, {
      from: new Date(from),
      to: to === undefined ? new Date() : new Date(to),
      outcome,
      kind,
    })
  })

  const listKinds: Handler<'listEventKinds'> = async ({ query }) => ({
    items: kindsMeant([query.kind ?? '*']).map((kind) => {
      const { says, subject, example } = eventKinds[kind]
      const origin = { app: 'merrow-sound', environment: 'production', service: base() }
      const id = '01936f0d-2b6c-7e4f-8a90-b1c2d3e4f506-0'
      const event = cloudEventOf({ id, kind, atMs: Date.UTC(2026, 11, 5, 6, 30), subject, data: example }, origin)
      return { kind, says, dataschema: event.dataschema, example: event as never }
    }),
  })
  api.serve('listEventKinds', listKinds, limits.strangers)

  api.serve(
    'readEventSchema',
    async ({ params: { kind } }) => {
      if (!isEventKind(kind)) throw new Problem('unknown-event-kind', `There is no kind ${kind.slice(0, 80)}.`)
      return dataSchemaOf(kind) as never
    },
    limits.strangers,
  )
}

function entryNo(text: string): number {
  if (!/^[1-9]\d{0,15}$/.test(text)) throw new Problem('unknown-webhook-entry', `${text.slice(0, 40)} is no entry.`)
  return Number(text)
}

/** Whoever may not change a webhook is not shown the path of its address, which can be all that its receiver asks for. */
const shownTo = <Shown extends { readonly url: string | null }>(role: Role, shown: Shown): Shown =>
  role === 'owner' || shown.url === null ? shown : { ...shown, url: withoutPath(shown.url) }

const webhookView = (shown: ShownWebhook, role: Role): Webhook => {
  const { row, url, olderUntil, waiting, secret } = shownTo(role, shown)
  return {
    name: row.name,
    url,
    kinds: [...row.kinds],
    when: row.rule,
    batch: row.batch,
    ca: row.ca,
    enabled: row.enabled,
    offBecause: row.offBecause,
    secret: secret ?? null,
    olderSecretsUntil: olderUntil.map((at) => at.toISOString()),
    waiting: waiting.events,
    waitingIsAll: waiting.isAll,
    waitingSince: waiting.since?.toISOString() ?? null,
    fault: row.fault,
    faultSince: row.faultSince?.toISOString() ?? null,
    restsUntil: row.backoffUntil?.toISOString() ?? null,
    toldAt: row.deliveredAt?.toISOString() ?? null,
    dropped: row.dropped,
    droppedAt: row.droppedAt?.toISOString() ?? null,
    madeBy: row.madeBy,
    changedAt: row.changedAt.toISOString(),
  }
}

const entryView = ({ answer: _, ...row }: LogRow): WebhookEntry => ({ ...row, at: row.at.toISOString() })
