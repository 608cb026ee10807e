import type { Command } from 'commander'
import { drawHandset } from '../drawing/lock-screen.ts'
import { table } from '../drawing/table.ts'
import type { Io } from '../io.ts'
import { type Context, printJson, type Run, withContext } from './context.ts'

type NewFlags = {
  readonly platform: 'ios' | 'android' | 'web'
  readonly id?: string
  readonly user?: string
  readonly model?: string
  readonly permission?: 'granted' | 'denied' | 'prompt'
  readonly locale?: string
}
type TapFlags = { readonly notification?: string }

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
    .addHelpText('after', '\nExample:\n  $ zbell handset tap ada-ios')
    .action(withContext<TapFlags, [string]>(io, done, tap))
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
  const { platform, id, user, model, permission, locale } = flags
  const given = Object.entries({ id, user, model, permission, locale }).filter(([, value]) => value !== undefined)
  const handset = await client.call('makeHandset', {
    params: { app },
    body: { platform, ...(Object.fromEntries(given) as object) },
  })
  if (flags.json) printJson(io, handset)
  else {
    const to = handset.user === null ? `device:${handset.device}` : `user:${handset.user}`
    io.out(
      `${paint.strong(handset.id)} is switched on, as device ${handset.device}.\nIts token is a handset’s: what rings it is a rehearsal.\n\n  zbell send --to ${to} --title "A first ring"\n  zbell handset show ${handset.id}\n`,
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

async function tap({ client, app, flags, io, paint }: Context<TapFlags>, id: string): Promise<number> {
  const { notification } = flags
  const handset = await client.call('tapHandset', {
    params: { app, id },
    body: notification === undefined ? {} : { notification },
  })
  if (flags.json) printJson(io, handset)
  else
    io.out(
      `Tapped. The app on ${handset.id} is in front${handset.opened ? `, at ${handset.opened}` : ''}.\n${paint.dim(`${handset.lockScreen.length} left on the lock screen.`)}\n`,
    )
  return 0
}
