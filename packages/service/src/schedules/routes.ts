import { type Schedule, type ScheduleRun, scheduleName, type Upcoming } from '@zbell/contract'
import { sampleTexts } from '@zbell/core'
import { type Api, checkName, nameAtPlace, numberAtPlace, pageView, placeOfName } from '../api/index.ts'
import { invalid } from '../base/index.ts'
import { type Database, databaseTime, whereOf } from '../database/index.ts'
import { type Reach, ReachCounter } from '../targets/index.ts'
import type { Schedules, UpcomingItem } from './schedules.ts'
import { listRuns, type RunRow } from './store/runs.ts'
import { type ScheduleRow, scheduleStore } from './store/schedules.ts'

export function serveSchedules(api: Api, database: Database, schedules: Schedules): void {
  const viewOf = async (row: ScheduleRow) => scheduleView(row, (await schedules.skipped([row])).get(row.no))

  api.serve('listSchedules', async ({ caller: { scope }, query: { limit, after } }) => {
    const rows = await scheduleStore.list(database, whereOf(scope), limit + 1, nameAtPlace(after))
    const skipped = await schedules.skipped(rows)
    return pageView(
      rows,
      limit,
      ({ name }) => placeOfName(name),
      (row) => scheduleView(row, skipped.get(row.no)),
    )
  })

  api.serve('readSchedule', async ({ caller: { scope }, params }) =>
    viewOf(await schedules.require(scope, params.schedule)),
  )

  api.serve('saveSchedule', async ({ caller: { scope, actor }, params: { schedule: name }, body }) => {
    checkName(scheduleName, 'schedule', name)
    if (body.notification.when !== undefined)
      throw invalid('/notification/when', 'stands beside the notification, not within it')
    return viewOf(await schedules.save(scope, name, body, actor))
  })

  api.serve('changeSchedule', async ({ caller: { scope }, params, body }) =>
    viewOf(await schedules.pause(scope, params.schedule, body.paused)),
  )

  api.serve('deleteSchedule', async ({ caller: { scope }, params }) => {
    await schedules.cancel(scope, params.schedule)
    return undefined
  })

  api.serve('cancelSchedules', async ({ caller: { scope }, body }) => ({
    cancelled: await schedules.cancelAll(scope, body.count),
  }))

  api.serve('skipRun', async ({ caller: { scope }, params }) => viewOf(await schedules.skip(scope, params.schedule)))

  api.serve('runSchedule', async ({ caller: { scope }, params }) =>
    runView(await schedules.run(scope, params.schedule)),
  )

  api.serve('listRuns', async ({ caller: { scope }, params, query: { limit, after } }) => {
    const { no } = await schedules.require(scope, params.schedule)
    const rows = await listRuns(database, no, limit + 1, numberAtPlace(after))
    return pageView(rows, limit, (row) => String(row.no), runView)
  })

  api.serve('previewSchedule', async ({ caller: { scope }, body: { when, count, from } }) => {
    const times = await schedules.preview(scope, when, count, from ? new Date(from) : await databaseTime(database))
    return { times: times.map((one) => one.toISOString().replace('.000Z', 'Z')) }
  })

  const counter = new ReachCounter(database)
  api.serve('listUpcoming', async ({ caller: { scope }, query: { days, reach } }) => {
    const { items, cut } = await schedules.upcoming(scope, days)
    const counted = reach === 'true' ? await counter.count(whereOf(scope), items) : []
    return { items: items.map((item, i) => comingView(item, counted[i] ?? null)), cut }
  })
}

/** What a request about reads like: of a template its name, since its texts are those of its time. */
const showsOf = ({ template, content, values }: Pick<UpcomingItem, 'content' | 'values' | 'template'>) =>
  template === null ? sampleTexts(content, { values: values ?? {} }) : { title: template, body: null }

const scheduleView = (row: ScheduleRow, skipped: readonly Date[] = []): Schedule => ({
  name: row.name,
  when: row.when as Schedule['when'],
  notification: row.notification as never,
  shows: showsOf({
    template: row.notification.template ?? null,
    content: row.notification.content as UpcomingItem['content'],
    values: row.notification.values,
  }),
  graceSeconds: row.graceSeconds,
  paused: row.paused,
  nextAt: row.paused ? null : (row.nextAt?.toISOString() ?? null),
  skipped: skipped.map((at) => at.toISOString()),
  version: row.version,
  madeBy: row.madeBy,
  changedAt: row.changedAt.toISOString(),
})

const runView = ({ state, says, notification, dueAt, at }: Omit<RunRow, 'no'>): ScheduleRun => ({
  state,
  says,
  notification,
  dueAt: dueAt.toISOString(),
  at: at.toISOString(),
})

const comingView = (
  { content, values, template, dueAt, target: _target, mode: _mode, ...rest }: UpcomingItem,
  reach: Reach | null,
): Upcoming['items'][number] => ({
  ...rest,
  reach,
  dueAt: dueAt.toISOString(),
  shows: showsOf({ content, values, template }),
})
