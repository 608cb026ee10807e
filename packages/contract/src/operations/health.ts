import { z } from 'zod'
import type { RouteName } from '../routes.ts'
import { channelName } from '../schemas/channel.ts'
import { day, health } from '../schemas/health.ts'
import { environmentQuery, pageOf } from '../schemas/page.ts'
import { done, environment, type Operation } from './operation.ts'

/** How the service does, and what each day brought. */
export const healthOperations = {
  readHealth: {
    ...done,
    summary: 'How it does right now: processes, gateways, queue',
    caller: 'app',
    query: environment,
    answer: health,
  },
  listDays: {
    ...done,
    summary: 'What each day brought: totals, reasons, and how long each step took',
    caller: 'app',
    query: z.object({
      ...environmentQuery,
      days: z.coerce.number().int().min(1).max(366).default(14).describe('So many, this one among them.'),
      channel: channelName.optional().describe('Only what was sent on this channel.'),
    }),
    answer: pageOf(day),
  },
} as const satisfies Partial<Record<RouteName, Operation>>
