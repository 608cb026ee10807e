import { z } from 'zod'
import type { RouteName } from '../routes.ts'
import { environmentQuery, namedPageQuery, pageOf, pageQuery } from '../schemas/page.ts'
import * as schedules from '../schemas/schedule.ts'
import type { Operation } from './operation.ts'
import { done, environment } from './operation.ts'

/** What rings at its time, once or again and again. */
export const schedulesOperations = {
  listSchedules: {
    ...done,
    summary: 'Schedules by name',
    caller: 'app',
    query: z.object({ ...environmentQuery, ...namedPageQuery }),
    answer: pageOf(schedules.schedule),
  },
  readSchedule: { ...done, summary: 'A schedule', caller: 'app', query: environment, answer: schedules.schedule },
  saveSchedule: {
    ...done,
    summary: 'Save a schedule; a change holds from its next run on',
    caller: 'app',
    query: environment,
    body: schedules.newSchedule,
    answer: schedules.schedule,
  },
  changeSchedule: {
    ...done,
    summary: 'Pause a schedule, or let it go on',
    caller: 'app',
    query: environment,
    body: schedules.scheduleChange,
    answer: schedules.schedule,
  },
  deleteSchedule: {
    status: 204,
    summary: 'Cancel a schedule, or the single notification that waits under this name',
    caller: 'app',
    query: environment,
  },
  cancelSchedules: {
    ...done,
    summary: 'Cancel all schedules of the environment, when there are as many as whoever asks believes',
    caller: 'app',
    query: environment,
    body: schedules.cancelAllRequest,
    answer: z.object({ cancelled: z.int() }),
  },
  skipRun: {
    ...done,
    summary: 'Leave out the next run',
    caller: 'app',
    query: environment,
    answer: schedules.schedule,
  },
  runSchedule: {
    ...done,
    summary: 'Ring a schedule now, beside its times',
    caller: 'app',
    query: environment,
    answer: schedules.scheduleRun,
    repeats: 'answer',
  },
  listRuns: {
    ...done,
    summary: 'What became of the times of a schedule, newest first',
    caller: 'app',
    query: z.object({ ...environmentQuery, ...pageQuery }),
    answer: pageOf(schedules.scheduleRun),
  },
  previewSchedule: {
    ...done,
    summary: 'The times that a schedule would have; nothing is stored',
    caller: 'app',
    role: 'viewer',
    query: environment,
    body: schedules.previewRequest,
    answer: schedules.preview,
  },
  listUpcoming: {
    ...done,
    summary: 'What rings within the next days, soonest first',
    caller: 'app',
    role: 'viewer',
    query: z.object({
      ...environmentQuery,
      days: z.coerce.number().int().min(1).max(92).default(14),
      reach: z.enum(['true', 'false']).optional().describe('With `true` it is counted whom each would ring as of now.'),
    }),
    answer: schedules.upcoming,
  },
} as const satisfies Partial<Record<RouteName, Operation>>
