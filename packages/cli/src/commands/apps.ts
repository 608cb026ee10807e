import type { App } from '@zbell/contract'
import type { Command } from 'commander'
import { called } from '../called.ts'
import { table } from '../drawing/table.ts'
import { safe } from '../drawing/text.ts'
import { exitCodes, UsageError } from '../exit-codes.ts'
import type { Io } from '../io.ts'
import { type Context, printJson, type Run, withContext } from './context.ts'
import { stopCommands } from './stops.ts'

type ChangeFlags = {
  readonly name?: string
  readonly ios?: string
  readonly android?: string
  readonly web?: string
}

const platforms = ['ios', 'android', 'web'] as const
/** Takes an identifier away. */
const nothing = 'none'

export function appCommands(program: Command, io: Io, done: Run): void {
  const group = program
    .command('app')
    .description('Create, show and change apps, with the operator’s key; stop one and start it again')
  const withIdentifiers = (command: Command) =>
    command
      .option('--ios <identifier>', 'its bundle identifier on iOS')
      .option('--android <identifier>', 'its package name on Android')
      .option('--web <origin>', 'its origin on the web')
  group
    .command('list')
    .description('The apps')
    .addHelpText('after', '\nExample:\n  $ zbell app list')
    .action(withContext<object, []>(io, done, list, { app: false }))
  group
    .command('show')
    .description('The app that --app names')
    .addHelpText('after', '\nExample:\n  $ zbell app show')
    .action(
      withContext<object, []>(io, done, async (context) => {
        const { client, app } = context
        // The operator's key belongs to no environment; the answer is the same in both.
        return tell(context, await client.call('readApp', { params: { app }, query: { environment: 'development' } }))
      }),
    )
  withIdentifiers(group.command('new <slug>'))
    .description('Create an app')
    .requiredOption('--name <name>', 'what people call it')
    .addHelpText(
      'after',
      '\nExample:\n  $ zbell app new merrow-sound --name "Merrow Sound Ferries" --ios example.ferries',
    )
    .action(
      withContext<ChangeFlags, [string]>(
        io,
        done,
        async (context, slug) => {
          const { ios, android, web, name = '' } = context.flags
          const identifiers = Object.fromEntries(Object.entries({ ios, android, web }).filter(([, given]) => given))
          return tell(context, await context.client.call('makeApp', { body: { slug, name, identifiers } }))
        },
        { app: false },
      ),
    )
  withIdentifiers(group.command('change'))
    .description(`Rename the app, or give and change what a platform calls it; “${nothing}” takes one away`)
    .option('--name <name>', 'what people call it')
    .addHelpText('after', '\nExample:\n  $ zbell app change --android example.ferries')
    .action(withContext<ChangeFlags, []>(io, done, change))
  stopCommands(group, io, done)
}

async function list({ client, flags, io, paint }: Context<object>): Promise<number> {
  const page = { items: await client.all('listApps', {}), next: null }
  if (flags.json) printJson(io, page)
  else if (page.items.length === 0)
    io.out(`There is no app yet. Make one with: ${called(io)} app new SLUG --name NAME\n`)
  else {
    const rows = page.items.map((one) => [
      one.slug,
      safe(one.name),
      ...platforms.map((platform) => safe(one.identifiers[platform] ?? '–')),
    ])
    io.out(table(['app', 'name', ...platforms], rows, paint.dim))
  }
  return exitCodes.done
}

async function change(context: Context<ChangeFlags>): Promise<number> {
  const { client, app, flags } = context
  const given = platforms.flatMap((platform) => {
    const value = flags[platform]
    return value === undefined ? [] : [[platform, value === nothing ? null : value] as const]
  })
  if (given.length === 0 && flags.name === undefined)
    throw new UsageError('nothing to change was given; give --name, --ios, --android or --web.')
  const changed = await client.call('changeApp', {
    params: { app },
    body: { ...(flags.name === undefined ? {} : { name: flags.name }), identifiers: Object.fromEntries(given) },
  })
  return tell(context, changed)
}

function tell({ flags, io, paint }: Context<object>, app: App): number {
  if (flags.json) printJson(io, app)
  else {
    const identifiers = platforms.map((platform) => [platform, safe(app.identifiers[platform] ?? '–')])
    io.out(table(['app', app.slug], [['name', safe(app.name)], ...identifiers], paint.dim))
  }
  return exitCodes.done
}
