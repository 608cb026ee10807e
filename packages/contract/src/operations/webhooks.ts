import { z } from 'zod'
import type { RouteName } from '../routes.ts'
import { environmentQuery, namedPageQuery, pageOf } from '../schemas/page.ts'
import { anyJson } from '../schemas/text.ts'
import * as webhooks from '../schemas/webhook.ts'
import type { Operation } from './operation.ts'
import { done, environment } from './operation.ts'

/** What is delivered to the app’s own server. */
export const webhooksOperations = {
  listWebhooks: {
    ...done,
    summary: 'Webhooks by name',
    caller: 'app',
    query: z.object({ ...environmentQuery, ...namedPageQuery }),
    answer: pageOf(webhooks.webhook),
  },
  readWebhook: { ...done, summary: 'A webhook', caller: 'app', query: environment, answer: webhooks.webhook },
  saveWebhook: {
    ...done,
    summary: 'Save a webhook; a new one gets a secret, which is answered this once',
    caller: 'app',
    role: 'owner',
    query: environment,
    body: webhooks.newWebhook,
    answer: webhooks.webhook,
  },
  changeWebhook: {
    ...done,
    summary: 'Switch a webhook on or off; one whose receiver wanted nothing more is asked again',
    caller: 'app',
    role: 'owner',
    query: environment,
    body: webhooks.webhookChange,
    answer: webhooks.webhook,
  },
  deleteWebhook: {
    status: 204,
    summary: 'Delete a webhook with what waits for it and its log',
    caller: 'app',
    role: 'owner',
    query: environment,
  },
  changeWebhookSecret: {
    ...done,
    summary: 'Sign with a new secret, and for a while with the one before as well',
    caller: 'app',
    role: 'owner',
    query: environment,
    body: webhooks.webhookSecretChange,
    answer: webhooks.webhook,
    repeats: { made: 'a secret', tells: ['name'] },
  },
  tryWebhook: {
    ...done,
    summary: 'Send the example of a kind now, and show the request and the answer',
    caller: 'app',
    query: environment,
    body: webhooks.webhookTry,
    answer: webhooks.webhookRequest,
  },
  listWebhookLog: {
    ...done,
    summary: 'Requests to a webhook and how they ended, newest first',
    caller: 'app',
    query: z.object({ ...environmentQuery, ...webhooks.webhookLogQuery }),
    answer: pageOf(webhooks.webhookEntry),
  },
  readWebhookRequest: {
    ...done,
    summary: 'One request of a webhook’s log, with its events and the answer',
    caller: 'app',
    query: environment,
    answer: webhooks.webhookRequest,
  },
  replayWebhook: {
    status: 202,
    summary: 'Deliver again what one request carried, or all of a span of time; each event keeps its id',
    caller: 'app',
    query: environment,
    body: webhooks.webhookReplay,
    answer: webhooks.webhookReplayed,
    repeats: 'answer',
  },
  listEventKinds: {
    ...done,
    summary: 'Every kind of event that a webhook can ask for, with an example',
    caller: 'anyone',
    query: z.object({ kind: webhooks.kindChoice.optional().describe('Only these: a kind, or a family.') }),
    answer: z.object({ items: z.array(webhooks.eventKind) }),
  },
  readEventSchema: {
    ...done,
    summary: 'The JSON Schema of what an event of a kind says: its data',
    caller: 'anyone',
    answer: anyJson,
  },
} as const satisfies Partial<Record<RouteName, Operation>>
