import type { Command } from 'commander'
import { drawExplanation } from '../drawing/explanation.ts'
import { exitCodes } from '../exit-codes.ts'
import type { Io } from '../io.ts'
import { type Context, printJson, type Run, withContext } from './context.ts'
import { readObjectFile } from './notification-file.ts'

/** Asking why, and holding what is being sent. */
export function knowingCommands(program: Command, io: Io, done: Run): void {
  program
    .command('why <notification> <who>')
    .description('Why a person or a device did or did not see a notification')
    .addHelpText(
      'after',
      `
WHO is a person's name or a device's id; the notification is named by its id or its own name.

Example:
  $ zbell why 01980c2e-7c1a-7d34-9f0b-5a3c6f1d2e4b ada`,
    )
    .action(withContext<object, [string, string]>(io, done, why))
  const group = program.commands.find((command) => command.name() === 'notification')!
  const holds = [
    ['pause', 'paused', 'Stop sending for now; what has gone has gone'],
    ['resume', 'none', 'Let a paused notification go on'],
    ['cancel', 'cancelled', 'Stop sending for good; what has not gone by then does not go'],
  ] as const
  for (const [name, hold, says] of holds)
    group
      .command(`${name} <id>`)
      .description(says)
      .addHelpText('after', `\nExample:\n  $ zbell notification ${name} 01980c2e-7c1a-7d34-9f0b-5a3c6f1d2e4b`)
      .action(withContext<object, [string]>(io, done, (context, id) => holdIt(context, id, hold)))
  group
    .command('edit <id> <file>')
    .description('Change a paused notification of which nothing has gone, from a file')
    .addHelpText('after', '\nExample:\n  $ zbell notification edit storm docs/examples/delay.yaml')
    .action(withContext<object, [string, string]>(io, done, edit))
  group
    .command('withdraw <id>')
    .description('Take back what devices show of it: they are woken and remove it')
    .addHelpText('after', '\nExample:\n  $ zbell notification withdraw 01980c2e-7c1a-7d34-9f0b-5a3c6f1d2e4b')
    .action(withContext<object, [string]>(io, done, withdraw))
}

async function why({ client, app, flags, io, paint }: Context<object>, id: string, who: string): Promise<number> {
  const explanation = await client.call('explainDelivery', { params: { app, id, who } })
  if (flags.json) printJson(io, explanation)
  else io.out(drawExplanation(explanation, io, paint))
  return explanation.seen ? exitCodes.done : exitCodes.nobodyReached
}

async function edit({ client, app, flags, io }: Context<object>, id: string, file: string): Promise<number> {
  const { content, values, fallbacks, urgency } = readObjectFile(file)
  const body = { content, values, fallbacks, urgency } as never
  const notification = await client.call('editNotification', { params: { app, id }, body })
  if (flags.json) printJson(io, notification)
  else io.out(`Changed; it is still paused. It reads: ${notification.shows.title}\n`)
  return exitCodes.done
}

async function holdIt(
  { client, app, flags, io }: Context<object>,
  id: string,
  hold: 'paused' | 'none' | 'cancelled',
): Promise<number> {
  const notification = await client.call('holdNotification', { params: { app, id }, body: { hold } })
  if (flags.json) {
    printJson(io, notification)
    return exitCodes.done
  }
  const { totals } = notification
  const gone = totals.accepted + totals.received + totals.shown + totals.opened + totals.dismissed
  const left = totals.expanded - gone - totals.skipped - totals.refused - totals.expired - totals.withdrawn
  const told = { paused: 'Paused', none: 'Goes on', cancelled: 'Cancelled' }[hold]
  const found = `${gone.toLocaleString('en')} of ${totals.expanded.toLocaleString('en')} devices had been rung, ${left.toLocaleString('en')} had not`
  io.out(`${told}: ${totals.expanded === 0 ? 'no device had been looked for yet' : found}.\n`)
  return exitCodes.done
}

async function withdraw({ client, app, flags, io }: Context<object>, id: string): Promise<number> {
  const accepted = await client.call('withdrawNotification', { params: { app, id } })
  if (flags.json) printJson(io, accepted)
  else io.out(`Devices are being told to remove it, by the wake ${accepted.id}.\n`)
  return exitCodes.done
}
