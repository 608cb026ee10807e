import type { Command } from 'commander'
import { safe } from '../drawing/text.ts'
import { exitCodes } from '../exit-codes.ts'
import type { Io } from '../io.ts'
import { type Context, printJson, type Run, withContext } from './context.ts'
import { deleteVerb, listVerb } from './verbs.ts'

type MemberFlags = { readonly user?: string[]; readonly device?: string[] }

export function topicCommands(program: Command, io: Io, done: Run): void {
  const group = program.command('topic').description('Show and declare topics, let people join and leave')
  listVerb(group, { io, done, noun: 'topic' }, 'Topics, with how many joined', {
    read: ({ client, app }) => client.all('listTopics', { params: { app } }),
    none: () => 'There is no topic yet; the first to join one makes it.',
    head: ['topic', 'title', '', 'users', 'devices'],
    row: (one) => [
      one.topic,
      safe(one.title ?? '–'),
      one.declared ? 'declared' : 'open',
      one.users.toLocaleString('en'),
      one.devices.toLocaleString('en'),
    ],
  })
  group
    .command('declare <topic>')
    .description('Declare a topic, or change its title')
    .option('--title <text>', 'what people call it')
    .addHelpText('after', '\nExample:\n  $ zbell topic declare route-4 --title "Brackenholm – Farrow Isle"')
    .action(
      withContext<{ title?: string }, [string]>(io, done, async ({ client, app, flags, io: out }, topic) => {
        const declared = await client.call('declareTopic', {
          params: { app, topic },
          body: { title: flags.title ?? null },
        })
        if (flags.json) printJson(out, declared)
        else out.out(`${topic} is declared.\n`)
        return exitCodes.done
      }),
    )
  for (const verb of ['join', 'leave'] as const) {
    group
      .command(`${verb} <topic>`)
      .description(`Let users and devices ${verb} a topic`)
      .option('--user <name...>', 'these users')
      .option('--device <id...>', 'these devices')
      .addHelpText('after', `\nExample:\n  $ zbell topic ${verb} route-4 --user ada signe`)
      .action(withContext<MemberFlags, [string]>(io, done, (context, topic) => change(context, verb, topic)))
  }
  deleteVerb(
    group,
    { io, done, noun: 'topic', example: 'route-9' },
    'Delete a topic; whoever joined it has left it',
    ({ client, app }, topic) => client.call('deleteTopic', { params: { app, topic } }),
  )
}

async function change(
  { client, app, flags, io }: Context<MemberFlags>,
  verb: 'join' | 'leave',
  topic: string,
): Promise<number> {
  const body = { users: flags.user ?? [], devices: flags.device ?? [] }
  const changed = await client.call(verb === 'join' ? 'joinTopic' : 'leaveTopic', { params: { app, topic }, body })
  if (flags.json) printJson(io, changed)
  else {
    io.out(`${changed.changed.toLocaleString('en')} ${verb === 'join' ? 'joined' : 'left'} ${topic}.\n`)
    if (changed.unknown.length > 0) io.err(`Not here: ${changed.unknown.map(safe).join(', ')}\n`)
  }
  return exitCodes.done
}
