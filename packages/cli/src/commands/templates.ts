import type { Command } from 'commander'
import { called } from '../called.ts'
import { cut, safe } from '../drawing/text.ts'
import { moment } from '../drawing/time.ts'
import { exitCodes } from '../exit-codes.ts'
import type { Io } from '../io.ts'
import { type Context, printJson, type Run, withContext } from './context.ts'
import { readObjectFile } from './notification-file.ts'
import { listVerb } from './verbs.ts'

/** Notifications with a name, to be filled in. */
export function templateCommands(program: Command, io: Io, done: Run): void {
  const group = program.command('template').description('Notifications with a name, to be filled in and sent')
  listVerb(group, { io, done, noun: 'template' }, 'Templates, each in its newest version', {
    read: ({ client, app }) => client.all('listTemplates', { params: { app } }),
    none: (zbell) => `There is no template yet. Try: ${zbell} template save delay FILE`,
    head: ['template', 'version', 'asks for', 'title', 'saved'],
    row: ({ name, version, declares, content, madeAt }, io) => [
      name,
      String(version),
      Object.keys(declares).join(' ') || '–',
      cut(safe(content.title ?? ''), 50),
      moment(madeAt, io),
    ],
  })
  group
    .command('show <template>')
    .description('One template: NAME in its newest version, NAME@3 in that one')
    .addHelpText('after', '\nExample:\n  $ zbell template show delay@1')
    .action(withContext<object, [string]>(io, done, show))
  group
    .command('save <name> <file>')
    .description('Save a template from a file with content and declares; a change is a new version')
    .addHelpText('after', '\nExample:\n  $ zbell template save delay docs/examples/delay-template.yaml')
    .action(withContext<object, [string, string]>(io, done, save))
  group
    .command('delete <name>')
    .description('Take a template off the list; what was sent by it stays as it was')
    .addHelpText('after', '\nExample:\n  $ zbell template delete delay')
    .action(withContext<object, [string]>(io, done, remove))
}

async function show({ client, app, io }: Context<object>, template: string): Promise<number> {
  printJson(io, await client.call('readTemplate', { params: { app, template } }))
  return exitCodes.done
}

async function save({ client, app, flags, io }: Context<object>, name: string, file: string): Promise<number> {
  const { content, declares } = readObjectFile(file)
  const saved = await client.call('saveTemplate', {
    params: { app, template: name },
    body: { content, declares } as never,
  })
  if (flags.json) printJson(io, saved)
  else
    io.out(
      `Saved as ${saved.name}@${saved.version}. Send it with: ${called(io)} send --template ${saved.name} --to user:NAME\n`,
    )
  return exitCodes.done
}

async function remove({ client, app, io }: Context<object>, name: string): Promise<number> {
  await client.call('deleteTemplate', { params: { app, template: name } })
  io.out(`${name} is off the list.\n`)
  return exitCodes.done
}
