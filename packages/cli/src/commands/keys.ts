import { ago } from '@zbell/contract/words'
import type { Command } from 'commander'
import { called } from '../called.ts'
import { table } from '../drawing/table.ts'
import { safe } from '../drawing/text.ts'
import { exitCodes, UsageError } from '../exit-codes.ts'
import type { Io } from '../io.ts'
import { type Context, printJson, type Run, withContext } from './context.ts'

type NewFlags = {
  readonly kind: 'backend' | 'app'
  readonly role?: 'viewer' | 'sender' | 'owner'
}

export function keyCommands(program: Command, io: Io, done: Run): void {
  const group = program.command('key').description('Create, list and revoke an app’s keys; with the operator’s key')
  group
    .command('list')
    .description('The keys: whose, for what, when last used; never the keys themselves')
    .addHelpText('after', '\nExample:\n  $ zbell key list')
    .action(withContext<object, []>(io, done, list))
  group
    .command('new <name>')
    .description('Create a key; it is printed this once')
    .requiredOption('--kind <kind>', 'backend: stays on a server; app: ships inside the app')
    .option('--role <role>', 'what a backend key may: sender, owner, or viewer when left out')
    .addHelpText(
      'after',
      '\nExample:\n  $ zbell key new "Sailing board" --kind backend --role sender --environment production',
    )
    .action(withContext<NewFlags, [string]>(io, done, make))
  group
    .command('revoke <id>')
    .description('Revoke a key: from this moment on nobody gets in with it')
    .addHelpText('after', '\nExample:\n  $ zbell key revoke 01980c2e-7c1a-7d34-9f0b-5a3c6f1d2e4b')
    .action(withContext<object, [string]>(io, done, revoke))
}

async function list({ client, app, flags, io, paint }: Context<object>): Promise<number> {
  const page = { items: await client.all('listKeys', { params: { app } }), next: null }
  if (flags.json) printJson(io, page)
  else if (page.items.length === 0) io.out(`There is no key yet. Make one with: ${called(io)} key new NAME --kind …\n`)
  else {
    const rows = page.items.map((one) => [
      one.id,
      one.revokedAt ? paint.dim('– revoked') : paint.good('● valid'),
      one.kind,
      one.environment,
      one.role ?? 'registers devices',
      safe(one.name),
      one.usedAt ? ago(one.usedAt, Date.now()) : 'never',
    ])
    io.out(table(['id', 'state', 'kind', 'environment', 'may', 'name', 'last used'], rows, paint.dim))
  }
  return exitCodes.done
}

async function make({ client, app, flags, io, environment }: Context<NewFlags>, name: string): Promise<number> {
  const { kind, role } = flags
  if (environment !== 'development' && environment !== 'production')
    throw new UsageError('a key belongs to one environment; give --environment development or production.')
  const made = await client.call('makeKey', {
    params: { app },
    body: { kind, environment, name, ...(role === undefined ? {} : { role }) },
  })
  if (flags.json) printJson(io, made)
  else {
    io.out(`${made.key}\n`)
    io.err(`It is printed this once. Revoke it with: ${called(io)} key revoke ${made.id}\n`)
  }
  return exitCodes.done
}

async function revoke({ client, app, flags, io }: Context<object>, id: string): Promise<number> {
  const key = await client.call('revokeKey', { params: { app, id } })
  if (flags.json) printJson(io, key)
  else io.out(`“${safe(key.name)}” is revoked; nobody gets in with it any more.\n`)
  return exitCodes.done
}
