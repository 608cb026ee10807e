import type { Firing, Trigger } from '@zbell/contract'
import type { Command } from 'commander'
import { stringify } from 'yaml'
import { clauses } from '../drawing/clauses.ts'
import { drawReview } from '../drawing/review.ts'
import { table } from '../drawing/table.ts'
import { cutFor, safe, safeLines } from '../drawing/text.ts'
import { moment } from '../drawing/time.ts'
import { exitCodes, UsageError } from '../exit-codes.ts'
import type { Io } from '../io.ts'
import { type Context, printJson, type Run, withContext } from './context.ts'
import { readObjectFile } from './notification-file.ts'
import { deleteVerb, listVerb, switchVerbs } from './verbs.ts'

type PageFlags = { readonly limit: string; readonly after?: string }
type TryFlags = {
  readonly event?: string
  readonly row?: string
  readonly before?: string
  readonly gone?: boolean
  readonly take?: boolean
  readonly ring?: string
}

export function triggerCommands(program: Command, io: Io, done: Run): void {
  const group = program.command('trigger').description('What rings without a person: when a row or an event fits')
  listVerb(group, { io, done, noun: 'trigger' }, 'Triggers by name', {
    read: ({ client, app }) => client.all('listTriggers', { params: { app } }),
    none: (zbell) => `There is no trigger yet. Save one with: ${zbell} trigger save FILE`,
    head: ['trigger', 'status', 'source', 'version', 'changed'],
    row: (one, io) => [
      one.name,
      stateOf(one),
      safe(String((one.definition as { source?: string }).source ?? '')),
      String(one.version),
      moment(one.changedAt, io),
    ],
  })
  group
    .command('show <name>')
    .description('A trigger as a file, as save takes it')
    .addHelpText('after', '\nExample:\n  $ zbell trigger show booked')
    .action(
      withContext<object, [string]>(io, done, async (context, trigger) =>
        tell(context, await context.client.call('readTrigger', { params: { app: context.app, trigger } })),
      ),
    )
  group
    .command('save <file>')
    .description(
      'Save the trigger that a file (YAML or JSON) holds; what runs goes on running, and a new one is off until it is enabled',
    )
    .option('--enable', 'switch it on at once')
    .addHelpText('after', '\nExample:\n  $ zbell trigger save booked.yaml --enable')
    .action(withContext<{ enable?: boolean }, [string]>(io, done, save))
  group
    .command('try <name>')
    .description('What an event or a row would do; nothing is stored, and nothing rings unless --ring says whom')
    .option('--event <json>', 'an event, such as \'{"type": "…", "data": {…}}\'')
    .option('--row <json>', 'a row')
    .option('--before <json>', 'the row as it was before')
    .option('--take', 'read what the row leaves out from its source, by its key')
    .option('--gone', 'the row is the last state of one that is gone')
    .option('--ring <reference>', 'ring it, on your own devices only: user:NAME or device:ID')
    .addHelpText(
      'after',
      `\nExample:\n  $ zbell trigger try booked --event '{"subject": "ada", "data": {"sailing": 101}}'`,
    )
    .action(withContext<TryFlags, [string]>(io, done, tryIt))
  const verbs = { io, done, noun: 'trigger', example: 'booked' }
  switchVerbs(
    group,
    verbs,
    { on: 'Switch a trigger on, also one that was paused as a runaway', off: 'Switch a trigger off' },
    ({ client, app }, trigger, enabled) =>
      client.call('changeTrigger', { params: { app, trigger }, body: { enabled } }),
    (changed) =>
      ` More than ${(changed as Trigger).maxAnHour.toLocaleString('en')} firings within an hour would pause it.`,
  )
  group
    .command('log <name>')
    .description('The result of each event and row, newest first')
    .option('--limit <count>', 'at most so many, up to 200', '20')
    .option('--after <place>', 'go on where the page before ended')
    .addHelpText('after', '\nExample:\n  $ zbell trigger log booked')
    .action(withContext<PageFlags, [string]>(io, done, log))
  deleteVerb(group, verbs, 'Delete a trigger, with its log', ({ client, app }, trigger) =>
    client.call('deleteTrigger', { params: { app, trigger } }),
  )
}

async function save(context: Context<{ enable?: boolean }>, file: string): Promise<number> {
  const { client, app, flags } = context
  const { trigger, ...definition } = readObjectFile(file) as { trigger?: string }
  if (typeof trigger !== 'string') throw new UsageError(`${file} has no name: begin it with trigger: NAME.`)
  const body = { ...definition, ...(flags.enable ? { enabled: true } : {}) }
  return tell(context, await client.call('saveTrigger', { params: { app, trigger }, body: body as never }))
}

const stateOf = ({ enabled, pausedBecause }: Trigger): string =>
  pausedBecause !== null ? 'paused' : enabled ? 'on' : 'off'

function tell({ flags, io, paint }: Context<object>, one: Trigger): number {
  if (flags.json) printJson(io, one)
  else {
    io.out(paint.dim(`# ${stateOf(one)}, version ${one.version}, by ${safe(one.madeBy)}\n`))
    if (one.unmatched > 0) io.out(paint.dim(`# no match: ${one.unmatched.toLocaleString('en')} rows or events\n`))
    if (one.pausedBecause !== null) io.out(paint.bad(`# paused: ${safe(one.pausedBecause)}\n`))
    io.out(safeLines(stringify({ trigger: one.name, ...(one.definition as object) })))
  }
  return exitCodes.done
}

const objectIn = (flag: string, text: string | undefined): Record<string, never> | undefined => {
  if (text === undefined) return undefined
  try {
    return JSON.parse(text) as Record<string, never>
  } catch {
    throw new UsageError(`${flag} is not JSON: ${text.slice(0, 60)}`)
  }
}

async function tryIt({ client, app, flags, io, paint }: Context<TryFlags>, trigger: string): Promise<number> {
  const given = {
    event: objectIn('--event', flags.event),
    row: objectIn('--row', flags.row),
    before: objectIn('--before', flags.before),
  }
  const body = {
    ...Object.fromEntries(Object.entries(given).filter(([, value]) => value !== undefined)),
    ...(flags.gone ? { gone: true } : {}),
    ...(flags.take ? { take: true } : {}),
  }
  if (flags.ring !== undefined) {
    const rang = await client.call('ringTrigger', { params: { app, trigger }, body: { ...body, only: flags.ring } })
    if (flags.json) printJson(io, rang)
    else if (rang.notification === null) io.out(`It does not fire: ${safe(rang.says ?? '')}\n`)
    else io.out(`Rung for ${safe(flags.ring)}: ${rang.notification}\n`)
    return exitCodes.done
  }
  const tried = await client.call('tryTrigger', { params: { app, trigger }, body })
  if (flags.json) printJson(io, tried)
  else {
    for (const { when, holds, parts } of tried.cases) {
      io.out(`${paint.strong(holds ? 'holds' : 'does not hold')}  ${safe(when)}\n`)
      if (parts.length > 1 || !holds) io.out(clauses(parts, paint))
    }
    if (tried.review) {
      io.out(`It fires, by case ${(tried.caseNo ?? 0) + 1}, for the key ${paint.strong(safe(tried.key ?? ''))}.\n\n`)
      io.out(drawReview(tried.review, paint, io))
    } else io.out(`${tried.is === 'fault' ? 'It cannot ring' : 'It does not fire'}: ${safe(tried.says ?? '')}\n`)
    for (const { pointer, detail } of tried.warnings) io.err(`careful: ${safe(pointer)} ${safe(detail)}\n`)
  }
  return exitCodes.done
}

async function log({ client, app, flags, io, paint }: Context<PageFlags>, trigger: string): Promise<number> {
  const { limit, after } = flags
  const page = await client.call('listFirings', { params: { app, trigger }, query: { limit, after } })
  if (flags.json) printJson(io, page)
  else if (page.items.length === 0) io.out('It has not fired yet.\n')
  else {
    const rows = page.items.map((one: Firing) => [
      moment(one.at, io),
      safe(cutFor(io, one.key, 40)),
      one.state,
      one.notification ?? '',
      safe(cutFor(io, one.says ?? '', 70)),
    ])
    io.out(table(['at', 'key', 'result', 'notification', ''], rows, paint.dim))
    if (page.next !== null) io.out(paint.dim(`more: --after ${page.next}\n`))
  }
  return exitCodes.done
}
