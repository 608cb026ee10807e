import { z } from 'zod'
import type { RouteName } from '../routes.ts'
import { environmentQuery, namedPageQuery, pageOf, pageQuery } from '../schemas/page.ts'
import * as triggers from '../schemas/trigger.ts'
import type { Operation } from './operation.ts'
import { done, environment } from './operation.ts'

/** What rings without a person. */
export const triggersOperations = {
  listTriggers: {
    ...done,
    summary: 'Triggers by name',
    caller: 'app',
    query: z.object({ ...environmentQuery, ...namedPageQuery }),
    answer: pageOf(triggers.trigger),
  },
  readTrigger: { ...done, summary: 'A trigger', caller: 'app', query: environment, answer: triggers.trigger },
  saveTrigger: {
    ...done,
    summary: 'Save a trigger; a change is a new version, and no other is touched',
    caller: 'app',
    query: environment,
    body: triggers.newTrigger,
    answer: triggers.trigger,
  },
  changeTrigger: {
    ...done,
    summary: 'Switch a trigger on or off; one that was paused as a runaway goes on',
    caller: 'app',
    query: environment,
    body: triggers.triggerChange,
    answer: triggers.trigger,
  },
  deleteTrigger: { status: 204, summary: 'Delete a trigger with its log', caller: 'app', query: environment },
  tryTrigger: {
    ...done,
    summary: 'What would come of a row or an event; nothing is stored and nothing is sent',
    caller: 'app',
    role: 'viewer',
    query: environment,
    body: triggers.tryRequest,
    answer: triggers.tried,
  },
  ringTrigger: {
    ...done,
    summary:
      'Ring what would come of a row or an event on one’s own devices only; the trigger’s log and its pace stay as they are',
    caller: 'app',
    query: environment,
    body: triggers.ringRequest,
    answer: triggers.rangOnly,
    repeats: 'answer',
  },
  listFirings: {
    ...done,
    summary: 'What came of each row and event that a trigger looked at, newest first',
    caller: 'app',
    query: z.object({ ...environmentQuery, ...pageQuery }),
    answer: pageOf(triggers.firing),
  },
} as const satisfies Partial<Record<RouteName, Operation>>
