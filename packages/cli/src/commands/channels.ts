import type { Channel } from '@zbell/contract'
import type { Command } from 'commander'
import { table } from '../drawing/table.ts'
import { safe } from '../drawing/text.ts'
import { exitCodes } from '../exit-codes.ts'
import type { Io } from '../io.ts'
import { type Context, printJson, type Run, withContext } from './context.ts'
import { present, secondsIn, truthIn } from './reading.ts'
import { deleteVerb, listVerb } from './verbs.ts'

type SaveFlags = {
  readonly title: string
  readonly note?: string
  readonly urgency?: string
  readonly sound?: string
  readonly ttl?: string
  readonly quietHours?: string
  readonly caps?: string
  readonly ios?: string
  readonly android?: string
  readonly web?: string
}

export function channelCommands(program: Command, io: Io, done: Run): void {
  const group = program.command('channel').description('Kinds of notification: how they arrive, and who muted them')
  listVerb(group, { io, done, noun: 'channel' }, 'Channels, with how many muted or blocked each', {
    read: ({ client, app }) => client.all('listChannels', { params: { app } }),
    none: (zbell) => `There is no channel yet. Declare one: ${zbell} channel save offers --title Offers`,
    head: ['channel', 'title', 'urgency', 'quiet hours', 'caps', 'muted by', 'blocked on'],
    row: (one) => [
      one.channel,
      safe(one.title),
      one.urgency ?? '–',
      one.quietHours ? 'apply' : '–',
      one.caps ? 'apply' : '–',
      one.mutedBy.toLocaleString('en'),
      one.blockedOn.toLocaleString('en'),
    ],
  })
  group
    .command('show <channel>')
    .description('One channel, with its defaults')
    .addHelpText('after', '\nExample:\n  $ zbell channel show offers')
    .action(
      withContext<object, [string]>(io, done, async (context, channel) =>
        tell(context, await context.client.call('readChannel', { params: { app: context.app, channel } })),
      ),
    )
  group
    .command('save <channel>')
    .description('Declare a channel, or change it; what is left out has its default')
    .requiredOption('--title <text>', 'what the app’s settings call it')
    .option('--note <text>', 'what it is for, in a sentence')
    .option('--urgency <urgency>', 'of its notifications that say none')
    .option('--sound <name>', 'of its notifications that name none')
    .option('--ttl <seconds>', 'how long its notifications live that do not say it')
    .option('--quiet-hours <yes|no>', 'whether the app’s quiet hours apply to it')
    .option('--caps <yes|no>', 'whether the app’s caps apply to it')
    .option('--ios <name>', 'what its channel is called there; likewise --android, --web')
    .option('--android <name>')
    .option('--web <name>')
    .addHelpText(
      'after',
      '\nExample:\n  $ zbell channel save offers --title Offers --urgency low --sound none\n  $ zbell channel save boarding --title Boarding --urgency high --quiet-hours no --caps no',
    )
    .action(withContext<SaveFlags, [string]>(io, done, save))
  deleteVerb(
    group,
    { io, done, noun: 'channel', example: 'offers' },
    'Remove a channel; what was sent on it keeps its name',
    ({ client, app }, channel) => client.call('deleteChannel', { params: { app, channel } }),
  )
}

async function save(context: Context<SaveFlags>, channel: string): Promise<number> {
  const { client, app, flags } = context
  const { title, note, urgency, sound, ttl, quietHours, caps, ios, android, web } = flags
  const names = present({ ios, android, web })
  const body = {
    title,
    ...present({
      note,
      urgency,
      sound,
      ttlSeconds: secondsIn('--ttl', ttl),
      quietHours: truthIn('--quiet-hours', quietHours),
      caps: truthIn('--caps', caps),
    }),
    ...(Object.keys(names).length > 0 ? { names } : {}),
  }
  return tell(context, await client.call('saveChannel', { params: { app, channel }, body }))
}

function tell({ flags, io, paint }: Context<object>, one: Channel): number {
  if (flags.json) printJson(io, one)
  else {
    const rows = [
      ['title', safe(one.title)],
      ...(one.note === undefined ? [] : [['note', safe(one.note)]]),
      ['urgency', one.urgency ?? 'set by each'],
      ['sound', safe(one.sound ?? 'set by each')],
      ['lifetime', one.ttlSeconds === undefined ? 'set by each' : `${one.ttlSeconds.toLocaleString('en')} s`],
      ['quiet hours', one.quietHours ? 'apply' : 'do not apply'],
      ['caps', one.caps ? 'apply' : 'do not apply'],
      ...Object.entries(one.names ?? {}).map(([platform, name]) => [`on ${platform}`, safe(name ?? '')]),
      ['muted by', `${one.mutedBy.toLocaleString('en')} people`],
      ['blocked on', `${one.blockedOn.toLocaleString('en')} devices`],
    ]
    io.out(table(['channel', one.channel], rows, paint.dim))
  }
  return exitCodes.done
}
