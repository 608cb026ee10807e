import { readFileSync } from 'node:fs'
import type { Command } from 'commander'
import { exitCodes, UsageError } from '../exit-codes.ts'
import type { Io } from '../io.ts'
import { type Context, printJson, type Run, withContext } from './context.ts'

type NewFlags = { readonly name: string; readonly role: 'viewer' | 'sender' | 'owner'; readonly passwordFile?: string }

export function accountCommands(program: Command, io: Io, done: Run): void {
  const group = program.command('account').description('Manage console accounts; with the operator’s key')
  group
    .command('new <email>')
    .description('Create a console account; asks for its password')
    .requiredOption('--name <name>', 'the person’s name')
    .option('--role <role>', 'viewer looks, sender sends as well, owner changes everything', 'viewer')
    .option('--password-file <file>', 'a file with the password; else it is asked for')
    .addHelpText(
      'after',
      '\nExample:\n  $ zbell account new harbour@merrow-sound.example --name "Harbour office" --role owner',
    )
    .action(withContext<NewFlags, [string]>(io, done, make, { app: false }))
  group
    .command('link <email>')
    .description('Print a link that signs an account in once, within an hour')
    .addHelpText('after', '\nExample:\n  $ zbell account link harbour@merrow-sound.example')
    .action(withContext<object, [string]>(io, done, link, { app: false }))
}

async function make({ client, flags, io }: Context<NewFlags>, email: string): Promise<number> {
  const password = await passwordFrom(flags.passwordFile, io)
  const account = await client.call('makeAccount', { body: { email, name: flags.name, role: flags.role, password } })
  if (flags.json) printJson(io, account)
  else io.out(`${account.email} may sign in as ${account.role}.\n`)
  return exitCodes.done
}

async function link({ client, flags, io, url }: Context<object>, email: string): Promise<number> {
  const made = await client.call('makeSignInLink', { body: { email } })
  if (flags.json) printJson(io, made)
  else io.out(`${url}/sign-in#${made.link}\n`)
  return exitCodes.done
}

async function passwordFrom(file: string | undefined, io: Io): Promise<string> {
  if (file !== undefined) {
    try {
      // One line end is the file's, not the password's.
      return readFileSync(file, 'utf8').replace(/\r?\n$/, '')
    } catch (error) {
      throw new UsageError(`${file} cannot be read (${(error as NodeJS.ErrnoException).code}); check its name.`)
    }
  }
  if (!io.askSecret) throw new UsageError('nobody is here to type a password; give --password-file.')
  return io.askSecret('A password of ten characters at least: ')
}
