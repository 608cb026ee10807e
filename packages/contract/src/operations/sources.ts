import { z } from 'zod'
import type { RouteName } from '../routes.ts'
import { environmentQuery, namedPageQuery, pageOf } from '../schemas/page.ts'
import * as sources from '../schemas/source.ts'
import type { Operation } from './operation.ts'
import { done, environment } from './operation.ts'

/** What triggers read. */
export const sourcesOperations = {
  listSources: {
    ...done,
    summary: 'Sources by name',
    caller: 'app',
    query: z.object({ ...environmentQuery, ...namedPageQuery }),
    answer: pageOf(sources.source),
  },
  readSource: { ...done, summary: 'A source', caller: 'app', query: environment, answer: sources.source },
  saveSource: {
    ...done,
    summary: 'Save a source, and look at it for the first time; what it watches anew rings nobody',
    caller: 'app',
    role: 'owner',
    query: environment.extend({
      anyway: z
        .enum(['true', 'false'])
        .optional()
        .describe('With `true` it is saved also where it cannot be read; otherwise what is there stays as it is.'),
    }),
    body: sources.newSource,
    answer: sources.source,
  },
  deleteSource: {
    status: 204,
    summary: 'Delete a source that no trigger reads',
    caller: 'app',
    role: 'owner',
    query: environment,
  },
  trySource: {
    ...done,
    summary: 'Connect to a source: its columns or fields with their types, and the last three rows',
    caller: 'app',
    query: environment,
    answer: sources.triedSource,
  },
  takeIncoming: {
    status: 202,
    summary:
      'A webhook of somebody else, of whose JSON the source makes occurrences; it has to be signed as the source says',
    caller: 'anyone',
    answer: sources.incomingTaken,
    anyQuery: true,
    headers: {
      'webhook-id': 'Names the message, where the source checks Standard Webhooks; the same again counts once.',
      'webhook-timestamp': 'Seconds since 1970, where the source checks Standard Webhooks.',
      'webhook-signature':
        'The signatures, where the source checks Standard Webhooks; else the source names its header.',
    },
  },
} as const satisfies Partial<Record<RouteName, Operation>>
