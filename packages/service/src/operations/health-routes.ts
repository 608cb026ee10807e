import type { Day } from '@zbell/contract'
import { alertsOf, type DeliveryState, quantileMs, type Reason, reasons, timedSteps, toldMs } from '@zbell/core'
import type { Api } from '../api/index.ts'
import { type Database, type Scope, type Where, whereOf } from '../database/index.ts'
import { type DayCount, readDays } from '../deliveries/index.ts'
import { newestDevices, refusalsToday } from '../devices/index.ts'
import type { GatewayRegistry } from '../gateways/index.ts'
import { channelNamed, findStop, readWaiting } from '../policy/index.ts'
import { unheardSchedules, unrungSchedules } from '../schedules/index.ts'
import { awaySources } from '../sources/index.ts'
import { faultyTriggers, pausedTriggers } from '../triggers/index.ts'
import { failingWebhooks } from '../webhooks/index.ts'
import { listJobs } from './store/jobs.ts'
import { listProcesses } from './store/processes.ts'

/** So many schedules that did not ring are named. */
const maxUnrung = 10

export function serveHealthOf(api: Api, database: Database, gateways: GatewayRegistry): void {
  api.serve('readHealth', async ({ caller: { scope } }) => {
    const startMs = performance.now()
    await database.ping()
    const databaseMs = performance.now() - startMs
    const where = whereOf(scope)
    const [processes, { oldestDueAt, ...queue }, jobs, stopped, unserved, failing, userRefusals] = await Promise.all([
      listProcesses(database),
      readWaiting(database, scope),
      listJobs(database),
      stopOf(database, scope),
      unservedOf(database, gateways, scope),
      failingOf(database, where),
      refusalsToday(database, scope),
    ])
    const paces = processes.flatMap(({ devicesPerSecond }) => devicesPerSecond ?? [])
    const own = processes.map(
      ({ gateways, startedAt, seenAt, devicesPerSecond: _, reachedLimits: _limits, ...one }) => ({
        ...one,
        startedAt: startedAt.toISOString(),
        seenAt: seenAt.toISOString(),
        gateways: gateways
          .filter(({ appNo, environment }) => appNo === scope.app.no && environment === scope.environment)
          .map(({ appNo: _no, app: _app, ...gateway }) => gateway),
      }),
    )
    const condition = {
      databaseMs,
      jobs,
      processes: own,
      ...failing,
      reachedLimits: processes
        .flatMap(({ reachedLimits = [] }) => reachedLimits)
        .filter(({ appNo, environment }) => appNo === scope.app.no && environment === scope.environment)
        .map(({ what, max, untilMs }) => ({ what, max, forSeconds: (untilMs - Date.now()) / 1_000 }))
        .filter(({ forSeconds }) => forSeconds > 0),
      stopped,
      unserved,
      queue: { due: queue.due, oldestDueMs: oldestDueAt?.getTime() },
    }
    return {
      troubles: alertsOf(condition, Date.now()),
      databaseMs: Math.round(databaseMs * 100) / 100,
      processes: own,
      jobs: jobs.map(({ startedAt, finishedAt, ...job }) => ({
        ...job,
        startedAt: startedAt?.toISOString() ?? null,
        finishedAt: finishedAt?.toISOString() ?? null,
      })),
      queue: { ...queue, oldestDueAt: oldestDueAt?.toISOString() ?? null },
      userRefusals,
      devicesPerSecond: paces.length === 0 ? null : Math.round(paces.reduce((sum, one) => sum + one, 0)),
    }
  })

  api.serve('listDays', async ({ caller: { scope }, query }) => {
    const days = new Map<string, DayCount[]>()
    const channel =
      query.channel === undefined ? undefined : await channelNamed(database, whereOf(scope), query.channel)
    const channelNo = query.channel === undefined ? undefined : (channel?.no ?? -1)
    for (const one of await readDays(database, scope, query.days, channelNo)) {
      const own = days.get(one.day)
      if (own) own.push(one)
      else days.set(one.day, [one])
    }
    return { items: [...days].map(([day, rows]) => dayView(day, rows)), next: null }
  })
}

/** What of an app does not do what it should, asked for at once. */
async function failingOf(database: Database, where: Where) {
  const [unrung, unheard, runaways, faulty, webhooks, sources] = await Promise.all([
    unrungSchedules(database, where, maxUnrung),
    unheardSchedules(database, where, maxUnrung),
    pausedTriggers(database, where),
    faultyTriggers(database, where),
    failingWebhooks(database, where),
    awaySources(database, where),
  ])
  return { unrung, unheard, runaways, faultyTriggers: faulty, failingWebhooks: webhooks, awaySources: sources }
}

/** Platforms with devices to which nothing can go out. */
async function unservedOf(database: Database, gateways: GatewayRegistry, scope: Scope) {
  const unserved = await gateways.unserved(scope.app.no, scope.environment)
  if (unserved.size === 0) return []
  const devices = await newestDevices(database, scope)
  return [...unserved]
    .filter(([platform]) => devices.some((one) => one.platform === platform && !one.rehearsal))
    .map(([platform, reason]) => ({ platform, reason }))
}

async function stopOf(database: Database, scope: Scope) {
  const stop = await findStop(database, whereOf(scope))
  return (
    stop && { reason: stop.reason, by: stop.stoppedBy, sinceSeconds: (Date.now() - stop.stoppedAt.getTime()) / 1_000 }
  )
}

type Counts = Partial<Record<DeliveryState, number>>

function dayView(day: string, rows: readonly DayCount[]): Day {
  const counts: Counts = {}
  const platforms: Day['platforms'] = {}
  const why = new Map<Reason, number>()
  for (const { platform, state, reason, count } of rows) {
    counts[state] = (counts[state] ?? 0) + count
    const own = platforms[platform] ?? {}
    platforms[platform] = { ...own, [state]: (own[state] ?? 0) + count }
    if (reason !== null) why.set(reason, (why.get(reason) ?? 0) + count)
  }
  return {
    day,
    counts,
    platforms,
    reasons: [...why]
      .sort((a, b) => b[1] - a[1])
      .map(([code, count]) => ({ code, detail: reasons[code].detail, remedy: reasons[code].remedy, count })),
    steps: timedSteps.flatMap((step) => {
      const durations = new Map<number, number>()
      for (const row of rows)
        if (row.state === step) durations.set(row.duration, (durations.get(row.duration) ?? 0) + row.count)
      const [medianMs, p90Ms, p99Ms] = [0.5, 0.9, 0.99].map((share) => quantileMs(durations, share))
      if (medianMs === undefined || p90Ms === undefined || p99Ms === undefined) return []
      return [
        { step, count: counts[step] ?? 0, medianMs: toldMs(medianMs), p90Ms: toldMs(p90Ms), p99Ms: toldMs(p99Ms) },
      ]
    }),
  }
}
