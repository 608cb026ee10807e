import type { Source, TriedSource } from '@zbell/contract'
import type { Command } from 'commander'
import { stringify } from 'yaml'
import type { Paint } from '../drawing/paint.ts'
import { table } from '../drawing/table.ts'
import { cut, cutFor, safe, safeLines } from '../drawing/text.ts'
import { moment } from '../drawing/time.ts'
import { exitCodes, UsageError } from '../exit-codes.ts'
import type { Io } from '../io.ts'
import { type Context, printJson, type Run, withContext } from './context.ts'
import { readObjectFile } from './notification-file.ts'
import { deleteVerb, listVerb } from './verbs.ts'

export function sourceCommands(program: Command, io: Io, done: Run): void {
  const group = program
    .command('source')
    .description('What triggers read: tables, polled answers, segments, and what others post')
  listVerb(group, { io, done, noun: 'source' }, 'Sources by name', {
    read: ({ client, app }) => client.all('listSources', { params: { app } }),
    none: (zbell) => `There is no source yet. Save one with: ${zbell} source save FILE`,
    head: ['source', 'kind', 'status', 'last polled', 'read by', 'last result'],
    row: (one, io) => [
      one.name,
      one.kind,
      stateOf(one),
      one.polledAt === null ? '' : moment(one.polledAt, io),
      one.triggers.join(', '),
      safe(cutFor(io, one.fault ?? one.leftOut ?? one.note ?? '', 70)),
    ],
  })
  group
    .command('show <name>')
    .description('A source as a file, as save takes it; what is secret of it is not shown, and kept when it is saved')
    .addHelpText('after', '\nExample:\n  $ zbell source show sailings')
    .action(
      withContext<object, [string]>(io, done, async (context, source) =>
        tell(context, await context.client.call('readSource', { params: { app: context.app, source } })),
      ),
    )
  group
    .command('save <file>')
    .description('Save the source that a file (YAML or JSON) holds, and poll it for the first time')
    .option('--address <url>', 'its address, in place of the file’s: so that no file has its password')
    .option('--anyway', 'also when it cannot be read as it is said; otherwise what is there stays as it is')
    .addHelpText('after', '\nExample:\n  $ zbell source save sailings.yaml --address "$SAILINGS_URL"')
    .action(withContext<{ address?: string; anyway?: boolean }, [string]>(io, done, save))
  group
    .command('try <name>')
    .description('Connect to a source: its columns or fields with their types, and the last three rows')
    .addHelpText('after', '\nExample:\n  $ zbell source try sailings')
    .action(withContext<object, [string]>(io, done, tryIt))
  deleteVerb(
    group,
    { io, done, noun: 'source', example: 'sailings' },
    'Delete a source that no trigger reads',
    ({ client, app }, source) => client.call('deleteSource', { params: { app, source } }),
  )
}

async function save(context: Context<{ address?: string; anyway?: boolean }>, file: string): Promise<number> {
  const { client, app, flags } = context
  const { source, ...definition } = readObjectFile(file) as { source?: string }
  if (typeof source !== 'string') throw new UsageError(`${file} has no name: begin it with source: NAME.`)
  const body = { ...definition, ...(flags.address === undefined ? {} : { url: flags.address }) }
  const query = flags.anyway ? ({ anyway: 'true' } as const) : {}
  return tell(context, await client.call('saveSource', { params: { app, source }, query, body: body as never }))
}

const stateOf = ({ fault, leftOut, kind, polledAt }: Source): string => {
  if (fault !== null) return 'away'
  if (leftOut !== null) return 'leaves rows out'
  return polledAt !== null || kind === 'incoming' ? 'fine' : 'not polled yet'
}

function tell({ flags, io, paint }: Context<object>, one: Source): number {
  if (flags.json) {
    printJson(io, one)
    return exitCodes.done
  }
  const by = one.triggers.length === 0 ? 'no trigger reads it' : `read by ${one.triggers.join(', ')}`
  io.out(paint.dim(`# version ${one.version}, by ${safe(one.madeBy)}; ${by}\n`))
  if (one.fault === null && one.polledAt === null && one.kind !== 'incoming')
    io.out(paint.dim('# its first look is not over yet\n'))
  if (one.fault !== null) io.out(paint.bad(`# it ${safe(one.fault)}\n`))
  if (one.leftOut !== null) io.out(paint.bad(`# ${safe(one.leftOut)}\n`))
  if (one.note !== null) io.out(paint.dim(`# ${safe(one.note)}\n`))
  if (one.address !== null) io.out(`# posted to ${one.address}\n`)
  if (one.secret !== null) io.out(`# its secret, shown this once: ${paint.strong(one.secret)}\n`)
  io.out(safeLines(stringify({ source: one.name, ...(one.definition as object) })))
  return exitCodes.done
}

async function tryIt({ client, app, flags, io, paint }: Context<object>, source: string): Promise<number> {
  const tried = await client.call('trySource', { params: { app, source } })
  if (flags.json) printJson(io, tried)
  else if (tried.is === 'fault') io.out(`${paint.bad(safe(tried.says ?? ''))}\n`)
  else {
    const { kind } = await client.call('readSource', { params: { app, source } })
    if (kind === 'incoming' && tried.came.length === 0) io.out('Nothing was posted to it yet.\n')
    else io.out(drawTried(tried, paint.dim) + drawCame(tried, io, paint))
  }
  return tried.is === 'fine' ? exitCodes.done : exitCodes.tryLater
}

/** What came in at an incoming source, and what was made of it. */
function drawCame({ came }: TriedSource, io: Io, paint: Paint): string {
  return came
    .map(({ at, body, makes, says }) => {
      const made = makes.map(({ type, subject }) => `${safe(type)}${subject === null ? '' : ` of ${safe(subject)}`}`)
      const becomes = says ? paint.bad(safe(says)) : made.length === 0 ? 'makes nothing' : `makes ${made.join(', ')}`
      return `\n${paint.dim(moment(at, io))}\n  ${safe(cut(JSON.stringify(body), 300))}\n  ${becomes}\n`
    })
    .join('')
}

function drawTried({ columns, rows }: TriedSource, dim: (text: string) => string): string {
  const value = (row: unknown, name: string): string => {
    const cell = (row as Record<string, unknown>)[name]
    if (cell === undefined) return ''
    return safe(cut(typeof cell === 'string' ? cell : JSON.stringify(cell), 30))
  }
  const lines = columns.map(({ name, type }) => [safe(name), type, ...rows.map((row) => value(row, name))])
  const heads = rows.length === 0 ? [] : ['the last rows', ...rows.slice(1).map(() => '')]
  return table(['column', 'holds', ...heads], lines, dim) + (rows.length === 0 ? 'There is no row yet.\n' : '')
}
