import type { HandsetAct } from '@zbell/contract'
import type { Command } from 'commander'
import { called } from '../called.ts'
import { drawHandset } from '../drawing/lock-screen.ts'
import { table } from '../drawing/table.ts'
import { safe } from '../drawing/text.ts'
import { clock } from '../drawing/time.ts'
import type { Io } from '../io.ts'
import { type Context, printJson, type Run, withContext } from './context.ts'
import { type ChangeFlags, changeOf, ringFile } from './handset-hands.ts'

type NewFlags = {
  readonly platform: 'ios' | 'android' | 'web'
  readonly id?: string
  readonly user?: string
  readonly model?: string
  readonly permission?: 'granted' | 'denied' | 'prompt'
  readonly locale?: string
  readonly watch?: boolean
}
type TapFlags = { readonly notification?: string; readonly action?: string }

export function handsetCommands(program: Command, io: Io, done: Run): void {
  const group = program.command('handset').description('Use the virtual handsets')
  group
    .command('list')
    .description('The virtual handsets')
    .addHelpText('after', '\nExample:\n  $ zbell handset list')
    .action(withContext<object, []>(io, done, list))
  group
    .command('new')
    .description('Switch a new handset on, in development; it rings without any credential')
    .requiredOption('--platform <platform>', 'ios, android or web')
    .option('--id <name>', 'what to call it; chosen when left out')
    .option('--user <name>', 'whose it is')
    .option('--model <name>', 'what it says it is')
    .option('--permission <answer>', 'what its user has answered: granted (when left out), denied or prompt')
    .option('--locale <tag>', 'its language, such as nb or ar')
    .option('--watch', 'with a watch that mirrors it')
    .addHelpText('after', '\nExample:\n  $ zbell handset new --platform ios --user ada')
    .action(withContext<NewFlags, []>(io, done, make))
  group
    .command('show <id>')
    .description('Draw a handset’s screen')
    .addHelpText('after', '\nExample:\n  $ zbell handset show ada-ios')
    .action(withContext<object, [string]>(io, done, show))
  group
    .command('tap <id>')
    .description('Tap the newest notification on a handset, or a given one')
    .option('--notification <id>', 'the one to tap')
    .option('--action <name>', 'one of its buttons, by its name')
    .addHelpText('after', '\nExample:\n  $ zbell handset tap ada-ios')
    .action(withContext<TapFlags, [string]>(io, done, tap))
  group
    .command('log <id>')
    .description('What happened to a handset, newest first: what arrived, in which state, and what was decided')
    .addHelpText('after', '\nExample:\n  $ zbell handset log ada-ios')
    .action(withContext<object, [string]>(io, done, log))
  group
    .command('set <id>')
    .description('Switch, turn or carry a handset')
    .option('--app-state <state>', 'its app: front, behind or closed')
    .option('--locked <yes>', 'yes or no')
    .option('--online <yes>', 'yes or no: without a network nothing arrives until it is back')
    .option('--do-not-disturb <yes>', 'yes or no')
    .option('--low-power <yes>', 'yes or no: what is not urgent comes ten seconds later')
    .option('--in-front <answer>', 'what its app does while in front: show, replace or drop')
    .option('--permission <answer>', 'in the system’s settings: granted or denied')
    .option('--muted <yes>', 'yes or no: inside the app')
    .option('--user <name>', 'who signs in; “none” signs out')
    .option('--clock <seconds>', 'how far its clock is ahead, or behind with a minus')
    .option('--time-zone <zone>', 'such as Europe/Oslo')
    .option('--place <longitude,latitude>', 'where it is, in degrees; “none” when it does not know')
    .option('--block <channel...>', 'channels that its system blocks from now on; none for none')
    .addHelpText('after', '\nExample:\n  $ zbell handset set ada-ios --app-state front --in-front replace')
    .action(withContext<ChangeFlags, [string]>(io, done, change))
  const acts: [string, string, (...given: string[]) => HandsetAct][] = [
    ['dismiss', 'Put the newest notification on a handset away', () => ({ do: 'dismiss' })],
    ['reboot', 'Restart a handset', () => ({ do: 'reboot' })],
    ['remove', 'Remove the app from a handset: its token is gone', () => ({ do: 'remove' })],
    ['install', 'Install the app anew: nobody has been asked for permission', () => ({ do: 'install' })],
  ]
  for (const [name, says, make] of acts) {
    group
      .command(`${name} <id>`)
      .description(says)
      .addHelpText('after', `\nExample:\n  $ zbell handset ${name} ada-ios`)
      .action(withContext<object, [string]>(io, done, (context, id) => act(context, id, make())))
  }
  group
    .command('ask <id> <answer>')
    .description('The app asks for permission, and its user answers granted or denied; the prompt shows once')
    .addHelpText('after', '\nExample:\n  $ zbell handset ask ios-1 granted')
    .action(
      withContext<object, [string, string]>(io, done, (context, id, answer) =>
        act(context, id, { do: 'ask', answer: answer as 'granted' }),
      ),
    )
  for (const verb of ['join', 'leave'] as const) {
    group
      .command(`${verb} <id> <topic>`)
      .description(verb === 'join' ? 'Join a topic on a handset' : 'Leave a topic on a handset')
      .addHelpText('after', `\nExample:\n  $ zbell handset ${verb} ada-ios route-4`)
      .action(
        withContext<object, [string, string]>(io, done, (context, id, topic) => act(context, id, { do: verb, topic })),
      )
  }
  for (const verb of ['mute', 'unmute'] as const) {
    group
      .command(`${verb} <id> <channel>`)
      .description(verb === 'mute' ? 'Mute a channel in the app' : 'Let a channel ring again in the app')
      .addHelpText('after', `\nExample:\n  $ zbell handset ${verb} ada-ios offers`)
      .action(
        withContext<object, [string, string]>(io, done, (context, id, channel) =>
          act(context, id, { do: verb === 'mute' ? 'mute-channel' : 'let-channel', channel }),
        ),
      )
  }
  group
    .command('ring <id> <file>')
    .description('Ring a notification file (YAML or JSON) straight on a handset, past the service')
    .option('--watch', 'ring again at each save')
    .addHelpText('after', '\nExample:\n  $ zbell handset ring ada-ios storm.yaml --watch')
    .action(
      withContext<{ watch?: boolean }, [string, string]>(io, done, (context, id, file) =>
        ringFile(context, file, (content) => act(context, id, { do: 'ring', content })),
      ),
    )
  group
    .command('discard <id>')
    .description('Delete a handset')
    .addHelpText('after', '\nExample:\n  $ zbell handset discard ios-1')
    .action(
      withContext<object, [string]>(io, done, async ({ client, app, io: out }, id) => {
        await client.call('deleteHandset', { params: { app, id } })
        out.out(`${id} is gone.\n`)
        return 0
      }),
    )
}

async function list({ client, app, flags, io, paint }: Context<object>): Promise<number> {
  const page = await client.call('listHandsets', { params: { app } })
  if (flags.json) printJson(io, page)
  else {
    const rows = page.items.map((one) => [
      one.id,
      one.user ?? 'nobody',
      one.platform,
      one.model,
      one.locked ? 'locked' : `app ${one.appState}`,
      one.permission,
      `${one.lockScreen.length}`,
    ])
    io.out(table(['id', 'user', 'platform', 'model', 'screen', 'permission', 'shows'], rows, paint.dim))
  }
  return 0
}

async function make({ client, app, flags, io, paint }: Context<NewFlags>): Promise<number> {
  const { platform, id, user, model, permission, locale, watch } = flags
  const given = Object.entries({ id, user, model, permission, locale, watch }).filter(
    ([, value]) => value !== undefined,
  )
  const handset = await client.call('makeHandset', {
    params: { app },
    body: { platform, ...(Object.fromEntries(given) as object) },
  })
  if (flags.json) printJson(io, handset)
  else {
    const to = handset.user === null ? `device:${handset.device}` : `user:${handset.user}`
    io.out(
      `${paint.strong(handset.id)} is switched on, as device ${handset.device}.\nIts token is a handset’s: what rings it is a rehearsal.\n\n  ${called(io)} send --to ${to} --title "A first ring"\n  ${called(io)} handset show ${handset.id}\n`,
    )
  }
  return 0
}

async function show({ client, app, flags, io, paint }: Context<object>, id: string): Promise<number> {
  const handset = await client.call('readHandset', { params: { app, id } })
  if (flags.json) printJson(io, handset)
  else io.out(drawHandset(handset, io, paint))
  return 0
}

async function log({ client, app, flags, io, paint }: Context<object>, id: string): Promise<number> {
  const handset = await client.call('readHandset', { params: { app, id } })
  if (flags.json) printJson(io, handset.log)
  else if (handset.log.length === 0) io.out('Nothing has happened to it yet.\n')
  else for (const { at, what } of handset.log) io.out(`${paint.dim(clock(at, io))}  ${safe(what)}\n`)
  return 0
}

async function change({ client, app, flags, io, paint }: Context<ChangeFlags>, id: string): Promise<number> {
  const handset = await client.call('changeHandset', { params: { app, id }, body: changeOf(flags) })
  if (flags.json) printJson(io, handset)
  else io.out(drawHandset(handset, io, paint))
  return 0
}

async function act({ client, app, flags, io, paint }: Context<object>, id: string, body: HandsetAct): Promise<number> {
  const handset = await client.call('actOnHandset', { params: { app, id }, body })
  if (flags.json) printJson(io, handset)
  else io.out(drawHandset(handset, io, paint))
  return 0
}

async function tap({ client, app, flags, io, paint }: Context<TapFlags>, id: string): Promise<number> {
  const { notification, action } = flags
  const handset = await client.call('tapHandset', {
    params: { app, id },
    body: { ...(notification === undefined ? {} : { notification }), ...(action === undefined ? {} : { action }) },
  })
  if (flags.json) printJson(io, handset)
  else
    io.out(
      `Tapped. The app on ${handset.id} is in front${handset.opened ? `, at ${handset.opened}` : ''}.\n${paint.dim(`${handset.lockScreen.length} left on the lock screen.`)}\n`,
    )
  return 0
}
