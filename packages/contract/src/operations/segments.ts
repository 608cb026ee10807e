import { z } from 'zod'
import type { RouteName } from '../routes.ts'
import { environmentQuery, namedPageQuery, pageOf, pageQuery } from '../schemas/page.ts'
import * as segments from '../schemas/segment.ts'
import type { Operation } from './operation.ts'
import { done, environment } from './operation.ts'

/** Rules with a name, and what can be asked of a rule. */
export const segmentsOperations = {
  listSegments: {
    ...done,
    summary: 'Segments by name, each in its newest version',
    caller: 'app',
    query: z.object({ ...environmentQuery, ...namedPageQuery }),
    answer: pageOf(segments.segment),
  },
  readSegment: { ...done, summary: 'A segment', caller: 'app', query: environment, answer: segments.segment },
  saveSegment: {
    ...done,
    summary: 'Save a segment; a change is a new version',
    caller: 'app',
    query: environment,
    body: segments.newSegment,
    answer: segments.savedSegment,
  },
  deleteSegment: {
    status: 204,
    summary: 'Remove a segment that no other one uses',
    caller: 'app',
    query: environment,
  },
  countRule: {
    ...done,
    summary: 'How many a rule has, with some of them, without saving it',
    caller: 'app',
    role: 'viewer',
    query: environment,
    body: segments.ruleRequest,
    answer: segments.segmentCount,
  },
  readRuleWords: {
    ...done,
    summary:
      'What a rule can be about here: attributes with the values that are usual, what happened, topics, segments',
    caller: 'app',
    role: 'viewer',
    query: environment,
    answer: segments.ruleWords,
  },
  explainRule: {
    ...done,
    summary: 'Whether a user or a device belongs, clause by clause',
    caller: 'app',
    role: 'viewer',
    query: environment,
    body: segments.explainRequest,
    answer: segments.ruleExplanation,
  },
  listSegmentMembers: {
    ...done,
    summary: 'The devices of a segment at this moment, oldest first',
    caller: 'app',
    query: z.object({ ...environmentQuery, ...pageQuery }),
    answer: pageOf(segments.segmentMember),
  },
} as const satisfies Partial<Record<RouteName, Operation>>
