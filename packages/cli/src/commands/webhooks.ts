import type { Webhook, WebhookEntry, WebhookRequest } from '@zbell/contract'
import {
  answerWords,
  eventsWords,
  instantOfTyped,
  replayWords,
  tellingWords,
  waitingWords,
  webhookState,
} from '@zbell/contract/words'
import type { Command } from 'commander'
import { stringify } from 'yaml'
import { table } from '../drawing/table.ts'
import { cut, cutFor, safe, safeLines } from '../drawing/text.ts'
import { moment } from '../drawing/time.ts'
import { exitCodes, UsageError } from '../exit-codes.ts'
import type { Io } from '../io.ts'
import { type Context, printJson, type Run, withContext } from './context.ts'
import { readObjectFile } from './notification-file.ts'
import { countIn, present } from './reading.ts'
import { deleteVerb, listVerb, switchVerbs } from './verbs.ts'

type SaveFlags = { readonly address?: string }
type LogFlags = {
  readonly limit: string
  readonly after?: string
  readonly outcome?: WebhookEntry['outcome']
  readonly kind?: string
  readonly entry?: string
}
type ReplayFlags = {
  readonly entry?: string
  readonly event?: string
  readonly from?: string
  readonly to?: string
  readonly outcome?: 'told' | 'given-up'
  readonly kind?: string
}

export function webhookCommands(program: Command, io: Io, done: Run): void {
  const group = program.command('webhook').description('Deliver events to the app’s own server')
  listVerb(group, { io, done, noun: 'webhook' }, 'Webhooks by name, and whether requests succeed', {
    read: ({ client, app }) => client.all('listWebhooks', { params: { app } }),
    none: (zbell) => `There is no webhook yet. Save one with: ${zbell} webhook save FILE`,
    head: ['webhook', 'status', 'kinds', 'waiting', 'last delivered', 'receiver'],
    row: (one, io) => [
      one.name,
      webhookState(one),
      cut(one.kinds.join(', '), 40),
      one.waiting === 0 ? '' : waitingWords(one),
      one.toldAt === null ? '' : moment(one.toldAt, io),
      safe(cutFor(io, one.offBecause ?? one.fault ?? '', 60)),
    ],
  })
  group
    .command('kinds')
    .description('Every kind of event that can be delivered')
    .addHelpText('after', '\nExample:\n  $ zbell webhook kinds')
    .action(withContext<object, []>(io, done, kinds))
  group
    .command('show <name>')
    .description('A webhook as a file, as save takes it; its secret is shown once, when it is made')
    .addHelpText('after', '\nExample:\n  $ zbell webhook show office')
    .action(
      withContext<object, [string]>(io, done, async (context, webhook) =>
        tell(context, await context.client.call('readWebhook', { params: { app: context.app, webhook } })),
      ),
    )
  group
    .command('save <file>')
    .description('Save the webhook that a file (YAML or JSON) holds; a new one gets a secret, shown this once')
    .option('--address <url>', 'its address, in place of the file’s')
    .addHelpText('after', '\nExample:\n  $ zbell webhook save tickets.yaml')
    .action(withContext<SaveFlags, [string]>(io, done, save))
  group
    .command('secret <name>')
    .description('Sign with a new secret, and for a while with the one before as well')
    .option('--keep <hours>', 'how long the one before signs too; 0 ends it at once', '24')
    .addHelpText('after', '\nExample:\n  $ zbell webhook secret office --keep 48')
    .action(
      withContext<{ keep: string }, [string]>(io, done, async (context, webhook) => {
        const { client, app, flags } = context
        const body = { keepHours: countIn('--keep', flags.keep, 'whole hours') }
        return tell(context, await client.call('changeWebhookSecret', { params: { app, webhook }, body }))
      }),
    )
  group
    .command('try <name>')
    .description('Send the example of a kind now, and show the request and the answer')
    .option('--kind <kind>', 'whose example; the first of its kinds when left out')
    .addHelpText('after', '\nExample:\n  $ zbell webhook try office --kind device.retired')
    .action(withContext<{ kind?: string }, [string]>(io, done, tryIt))
  group
    .command('log <name>')
    .description('Requests and their results, newest first; one of them with what was sent and answered')
    .option('--limit <count>', 'at most so many, up to 200', '20')
    .option('--after <place>', 'go on where the page before ended')
    .option('--outcome <outcome>', `only ${Object.keys(tellingWords).join(', ')}`)
    .option('--kind <kind>', 'only events of a kind')
    .option('--entry <number>', 'this one, with its request and the answer')
    .addHelpText('after', '\nExample:\n  $ zbell webhook log office --outcome again')
    .action(withContext<LogFlags, [string]>(io, done, log))
  group
    .command('replay <name>')
    .description('Send again what one request carried, or everything of a span of time; each event keeps its id')
    .option('--entry <number>', 'the events of this entry of the log')
    .option('--event <id>', 'only this event of the entry')
    .option('--from <time>', 'from an instant on, or from so long ago: 30m, 2h, 1d')
    .option('--to <time>', 'until then; until now when left out')
    .option('--outcome <outcome>', 'only what was acknowledged (told), or given-up')
    .option('--kind <kind>', 'only events of a kind')
    .addHelpText('after', '\nExample:\n  $ zbell webhook replay office --from 2h --outcome given-up')
    .action(withContext<ReplayFlags, [string]>(io, done, replay))
  const verbs = { io, done, noun: 'webhook', example: 'office' }
  switchVerbs(
    group,
    verbs,
    {
      on: 'Switch a webhook on, also one whose receiver declined',
      off: 'Switch a webhook off: nothing new waits for it',
    },
    ({ client, app }, webhook, enabled) =>
      client.call('changeWebhook', { params: { app, webhook }, body: { enabled } }),
  )
  deleteVerb(group, verbs, 'Delete a webhook, with what waits for it and its log', ({ client, app }, webhook) =>
    client.call('deleteWebhook', { params: { app, webhook } }),
  )
}

async function kinds({ client, flags, io, paint }: Context<object>): Promise<number> {
  const all = await client.call('listEventKinds', {})
  if (flags.json) printJson(io, all)
  else
    io.out(
      table(
        ['kind', 'is sent when'],
        all.items.map(({ kind, says }) => [kind, says]),
        paint.dim,
      ),
    )
  return exitCodes.done
}

async function save(context: Context<SaveFlags>, file: string): Promise<number> {
  const { client, app, flags } = context
  const { webhook, ...definition } = readObjectFile(file) as { webhook?: string }
  if (typeof webhook !== 'string') throw new UsageError(`${file} has no name: begin it with webhook: NAME.`)
  const body = { ...definition, ...(flags.address === undefined ? {} : { url: flags.address }) }
  return tell(context, await client.call('saveWebhook', { params: { app, webhook }, body: body as never }))
}

function tell({ flags, io, paint }: Context<object>, one: Webhook): number {
  if (flags.json) {
    printJson(io, one)
    return exitCodes.done
  }
  const { name, url, kinds: heard, when, batch, ca, enabled } = one
  const told = one.toldAt === null ? 'nothing delivered yet' : `last delivered ${moment(one.toldAt, io)}`
  io.out(paint.dim(`# ${webhookState(one)}, ${told}, by ${safe(one.madeBy)}\n`))
  const trouble = one.offBecause ?? one.fault
  if (trouble !== null) io.out(paint.bad(`# its receiver ${safe(trouble)}\n`))
  if (one.waiting > 0) io.out(`# ${waitingWords(one)} ${one.waiting === 1 ? 'waits' : 'wait'}\n`)
  if (one.dropped > 0) io.out(paint.bad(`# ${eventsWords(one.dropped)} were never delivered\n`))
  for (const until of one.olderSecretsUntil) io.out(`# the secret before signs too, until ${moment(until, io)}\n`)
  if (one.secret !== null) io.out(`# its secret, shown this once: ${paint.strong(one.secret)}\n`)
  const file = {
    webhook: name,
    url: url ?? undefined,
    kinds: heard,
    when: when ?? undefined,
    batch: batch === 1 ? undefined : batch,
    ca: ca ?? undefined,
    enabled: enabled ? undefined : false,
  }
  io.out(safeLines(stringify(present(file))))
  return exitCodes.done
}

async function tryIt({ client, app, flags, io, paint }: Context<{ kind?: string }>, webhook: string): Promise<number> {
  const body = flags.kind === undefined ? {} : { kind: flags.kind }
  const tried = await client.call('tryWebhook', { params: { app, webhook }, body })
  if (flags.json) printJson(io, tried)
  else drawRequest(tried, { io, paint })
  const { status } = tried.entry
  return status !== null && status >= 200 && status < 300 ? exitCodes.done : exitCodes.tryLater
}

function drawRequest(
  { entry, request, answer }: WebhookRequest,
  { io, paint }: Pick<Context<object>, 'io' | 'paint'>,
): void {
  if (request) {
    io.out(`${paint.strong('POST')} ${safe(request.url ?? '')}\n`)
    for (const [name, value] of Object.entries(request.headers)) io.out(`${paint.dim(`${name}:`)} ${safe(value)}\n`)
    io.out(`\n${safeLines(JSON.stringify(JSON.parse(request.body), null, 2))}\n\n`)
  } else io.out(paint.dim('What was sent is not kept of this attempt; see the last one of its message.\n'))
  const isFine = entry.status !== null && entry.status >= 200 && entry.status < 300
  const said = safe(answerWords(entry))
  io.out(`${isFine ? paint.good(said) : paint.bad(said)} ${paint.dim(`after ${entry.durationMs} ms`)}\n`)
  if (answer !== null) io.out(`${safeLines(answer)}\n`)
}

async function log(context: Context<LogFlags>, webhook: string): Promise<number> {
  const { client, app, flags, io, paint } = context
  if (flags.entry !== undefined) {
    const one = await client.call('readWebhookRequest', { params: { app, webhook, entry: flags.entry } })
    if (flags.json) printJson(io, one)
    else drawRequest(one, context)
    return exitCodes.done
  }
  const { limit, after, outcome, kind } = flags
  if (outcome !== undefined && !Object.hasOwn(tellingWords, outcome))
    throw new UsageError(`--outcome wants one of ${Object.keys(tellingWords).join(', ')}.`)
  const page = await client.call('listWebhookLog', { params: { app, webhook }, query: { limit, after, outcome, kind } })
  if (flags.json) printJson(io, page)
  else if (page.items.length === 0) io.out('Nothing was delivered yet.\n')
  else {
    const rows = page.items.map((one) => [
      String(one.no),
      moment(one.at, io),
      one.kind ?? 'several',
      String(one.events),
      tellingWords[one.outcome] + (one.again ? ', replayed' : ''),
      String(one.attempt),
      safe(cutFor(io, answerWords(one), 50)),
      `${one.durationMs} ms`,
    ])
    io.out(table(['entry', 'at', 'kind', 'events', 'outcome', 'attempt', 'answer', 'took'], rows, paint.dim))
    if (page.next !== null) io.out(paint.dim(`more: --after ${page.next}\n`))
  }
  return exitCodes.done
}

async function replay({ client, app, flags, io }: Context<ReplayFlags>, webhook: string): Promise<number> {
  const body = bodyOf(flags)
  const { events, isAll } = await client.call('replayWebhook', { params: { app, webhook }, body: body as never })
  if (flags.json) printJson(io, { events, isAll })
  else if (events === 0) io.out('There is nothing in its log to replay.\n')
  else io.out(`${replayWords(events)}${isAll ? '' : '; there are more, later in the span'}.\n`)
  return exitCodes.done
}

/** @throws {UsageError} */
function bodyOf({ entry, event, from, to, outcome, kind }: ReplayFlags): Record<string, unknown> {
  if ((entry === undefined) === (from === undefined))
    throw new UsageError('Say what to replay: --entry NUMBER, or --from TIME.')
  if (entry !== undefined) return present({ entry: countIn('--entry', entry, 'the number of an entry'), event })
  return present({ from: timeIn('--from', from), to: timeIn('--to', to), outcome, kind })
}

function timeIn(flag: string, text: string | undefined): string | undefined {
  if (text === undefined) return undefined
  const at = instantOfTyped(text, Date.now())
  if (at === undefined)
    throw new UsageError(`${flag} wants an instant, such as 2026-11-28T10:00:00Z, or how long ago, such as 2h.`)
  return at
}
