import type { Day, GatewayHealth, Health } from '@zbell/contract'
import { ago, nameGateway, refusalWords, span } from '@zbell/contract/words'
import type { Command } from 'commander'
import { table } from '../drawing/table.ts'
import { safe } from '../drawing/text.ts'
import { exitCodes } from '../exit-codes.ts'
import type { Io } from '../io.ts'
import { type Context, printJson, type Run, withContext } from './context.ts'

type DaysFlags = { readonly days: string; readonly channel?: string }

/** How the service does, and what each day brought. */
export function healthCommands(program: Command, io: Io, done: Run): void {
  program
    .command('health')
    .description('Whether everything runs: processes, gateways, queue')
    .addHelpText('after', '\nExit code 7 when something is wrong.\n\nExample:\n  $ zbell health')
    .action(withContext<object, []>(io, done, health))
  program
    .command('days')
    .description('What each day brought, and how long each step took')
    .option('--days <count>', 'so many, today among them, up to 366', '14')
    .option('--channel <channel>', 'only what was sent on this channel')
    .addHelpText('after', '\nExample:\n  $ zbell days --days 7')
    .action(withContext<DaysFlags, []>(io, done, days))
}

async function health({ client, app, flags, io, paint }: Context<object>): Promise<number> {
  const now = await client.call('readHealth', { params: { app } })
  const { troubles } = now
  if (flags.json) printJson(io, now)
  else {
    for (const { detail, remedy } of troubles) io.out(`${paint.bad('✕')} ${safe(detail)} ${safe(remedy)}\n`)
    if (troubles.length === 0) io.out(`${paint.good('●')} All is well.\n`)
    io.out(`\n${processTable(now, paint.dim)}\n${queueLine(now)}\n`)
    const refused = refusalWords(now.userRefusals)
    if (refused) io.out(`${refused}\n`)
    const gateways = now.processes.flatMap((one) => one.gateways.map((gateway) => ({ gateway, pid: one.pid })))
    if (gateways.length === 0) io.out('No gateway has been needed yet.\n')
    else io.out(`\n${gatewayTable(gateways, paint.dim)}`)
    io.out(`\n${jobTable(now, paint.dim)}`)
  }
  return troubles.length === 0 ? exitCodes.done : exitCodes.tryLater
}

const processTable = ({ processes }: Health, dim: (text: string) => string): string =>
  table(
    ['process', 'parts', 'since', 'memory', 'last report'],
    processes.map((one) => [
      `${safe(one.host)}:${one.pid}`,
      one.does,
      ago(one.startedAt, Date.now()),
      `${Math.round(one.memoryMb)} MB`,
      ago(one.seenAt, Date.now()),
    ]),
    dim,
  )

const jobTable = ({ jobs }: Health, dim: (text: string) => string): string =>
  table(
    ['background job', 'every', 'last run', 'took', 'result'],
    jobs.map((job) => [
      job.name,
      span(job.everySeconds * 1_000),
      job.finishedAt === null ? 'not yet' : ago(job.finishedAt, Date.now()),
      job.durationMs === null ? '–' : span(job.durationMs),
      job.error === null ? (job.finishedAt === null ? '–' : 'done') : `failed: ${safe(job.error)}`,
    ]),
    dim,
  )

function queueLine({ queue, devicesPerSecond, databaseMs }: Health): string {
  const count = (devices: number) => devices.toLocaleString('en')
  const pace = devicesPerSecond === null ? '' : `, ${count(devicesPerSecond)} a second lately`
  return `Devices in the queue: ${count(queue.due)} due, ${count(queue.later)} later, ${count(queue.paused)} paused${pace}. The database answers in ${databaseMs} ms.`
}

const gatewayTable = (
  all: readonly { readonly gateway: GatewayHealth; readonly pid: number }[],
  dim: (text: string) => string,
): string =>
  table(
    ['gateway', 'state', 'in flight', 'median', 'p99', 'answers in 5 min', 'where', 'pid'],
    all.map(({ gateway, pid }) => [
      nameGateway(gateway),
      gateway.state,
      `${gateway.inFlight} of ${gateway.inFlightLimit}`,
      gateway.medianMs === null ? '–' : span(gateway.medianMs),
      gateway.p99Ms === null ? '–' : span(gateway.p99Ms),
      Object.entries(gateway.answers)
        .map(([name, count]) => `${count.toLocaleString('en')} ${name}`)
        .join(', ') || '–',
      safe(gateway.gateway ?? 'each browser’s own'),
      String(pid),
    ]),
    dim,
  )

async function days({ client, app, flags, io, paint }: Context<DaysFlags>): Promise<number> {
  const { items } = await client.call('listDays', {
    params: { app },
    query: { days: flags.days, channel: flags.channel },
  })
  if (flags.json) printJson(io, items)
  else if (items.length === 0) io.out('Nothing was sent on these days.\n')
  else io.out(dayTable(items, paint.dim))
  return exitCodes.done
}

const counted = ['accepted', 'received', 'shown', 'opened', 'skipped', 'refused', 'expired'] as const

function dayTable(items: readonly Day[], dim: (text: string) => string): string {
  const median = (day: Day, step: Day['steps'][number]['step']) => {
    const found = day.steps.find((one) => one.step === step)
    return found ? span(found.medianMs) : '–'
  }
  return table(
    ['day (UTC)', ...counted, 'until accepted', 'until received', 'until opened'],
    items.map((day) => [
      day.day,
      ...counted.map((state) => (day.counts[state] ?? 0).toLocaleString('en')),
      median(day, 'accepted'),
      median(day, 'received'),
      median(day, 'opened'),
    ]),
    dim,
  )
}
