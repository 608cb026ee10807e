import type { Command } from 'commander'
import { called } from '../called.ts'
import { safe } from '../drawing/text.ts'
import { moment } from '../drawing/time.ts'
import { exitCodes } from '../exit-codes.ts'
import type { Io } from '../io.ts'
import { printJson, type Run, withContext } from './context.ts'

export function calendarCommands(program: Command, io: Io, done: Run): void {
  const group = program
    .command('calendar')
    .description('What is upcoming as a calendar that others subscribe to, behind a secret address')
  group
    .command('make')
    .description('Make its address, which is printed this once; the one before ends')
    .addHelpText('after', '\nExample:\n  $ zbell calendar make')
    .action(
      withContext<object, []>(io, done, async ({ client, app, flags, io: out }) => {
        const made = await client.call('makeFeed', { params: { app } })
        if (flags.json) printJson(out, made)
        else {
          out.out(`${made.url}\n`)
          out.err('It is printed this once: whoever has it reads what is upcoming, and nothing else.\n')
        }
        return exitCodes.done
      }),
    )
  group
    .command('show')
    .description('Whether there is one, and who created it')
    .addHelpText('after', '\nExample:\n  $ zbell calendar show')
    .action(
      withContext<object, []>(io, done, async ({ client, app, flags, io: out }) => {
        const feed = await client.call('readFeed', { params: { app } })
        if (flags.json) printJson(out, feed)
        else if (feed.madeAt === null) out.out(`There is none. Make one with: ${called(io)} calendar make\n`)
        else out.out(`${safe(feed.madeBy ?? '')} made its address ${moment(feed.madeAt, out)}.\n`)
        return exitCodes.done
      }),
    )
  group
    .command('revoke')
    .description('Revoke its address: from this moment on it leads nowhere')
    .addHelpText('after', '\nExample:\n  $ zbell calendar revoke')
    .action(
      withContext<object, []>(io, done, async ({ client, app, io: out }) => {
        await client.call('revokeFeed', { params: { app } })
        out.out('Its address leads nowhere from now on.\n')
        return exitCodes.done
      }),
    )
}
