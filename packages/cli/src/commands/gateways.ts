import type { Gateway } from '@zbell/contract'
import { exampleProfile, type ProfileKind, profileKinds } from '@zbell/contract/words'
import type { Command } from 'commander'
import { called } from '../called.ts'
import { table } from '../drawing/table.ts'
import { safe } from '../drawing/text.ts'
import { moment } from '../drawing/time.ts'
import { exitCodes, UsageError } from '../exit-codes.ts'
import type { Io } from '../io.ts'
import { type Context, printJson, type Run, withContext } from './context.ts'
import { record } from './gateway-record.ts'
import { attempt, lint, readProfile, tellFaults } from './gateway-try.ts'

type NewFlags = { readonly kind?: string; readonly platform?: string }
type SaveFlags = { readonly wait?: boolean }

/** Looks at the gateways, and changes how the app speaks to them. */
export function gatewayCommands(program: Command, io: Io, done: Run): void {
  const group = program.command('gateway').description('How the app speaks to the platforms’ gateways')
  const add = (usage: string, says: string, example: string): Command =>
    group.command(usage).description(says).addHelpText('after', `\nExample:\n  $ zbell gateway ${example}`)
  add('show [platform]', 'Which gateways there are; of one, the profile that is in use', 'show').action(
    withContext<object, [string | undefined]>(io, done, show),
  )
  add('new', 'Write a profile to begin from, with remarks, to standard output', 'new --kind grant > android.yaml')
    .requiredOption('--kind <kind>', `how the gateway wants to be told who asks: ${profileKinds.join(', ')}`)
    .option('--platform <platform>', 'ios or android')
    .action((flags: NewFlags) => done(begin(flags, io)))
  add('lint <file>', 'Read a gateway profile and name each fault with its line and column', 'lint ios.yaml').action(
    withContext<object, [string]>(io, done, lint),
  )
  add(
    'try <platform>',
    'Print the exact request that would go out, secrets masked',
    'try ios --title "Boarding is open" --send',
  )
    .option('--with <file>', 'with this profile, before it is saved')
    .option('--device <id>', 'for this device; else for one that cannot exist')
    .option('--title <text>', 'the first line')
    .option('--body <text>', 'the text below it')
    .option('--send', 'send it, and explain the answer')
    .action(withContext(io, done, attempt))
  add('save <file>', 'Make a profile the app’s own, in use at once; the one before waits', 'save ios.yaml')
    .option('--wait', 'keep it waiting, and put it in use later')
    .action(withContext<SaveFlags, [string]>(io, done, save))
  add('pull <platform>', 'Make the profile that the service’s configuration names the app’s own', 'pull ios').action(
    withContext<object, [string]>(io, done, pull),
  )
  add('versions <platform>', 'The versions of the app’s own profile', 'versions ios').action(
    withContext<object, [string]>(io, done, versions),
  )
  add('use <platform> <version>', 'Put a version in use; the one before waits', 'use ios 2').action(
    withContext<object, [string, string]>(io, done, async (context, platform, version) =>
      tell(
        context,
        await context.client.call('useGatewayVersion', { params: { app: context.app, platform, version } }),
      ),
    ),
  )
  add('reset <platform>', 'Go back to the profile that the service’s configuration names', 'reset ios').action(
    withContext<object, [string]>(io, done, async (context, platform) =>
      tell(context, await context.client.call('dropGateway', { params: { app: context.app, platform } })),
    ),
  )
  add(
    'record <platform>',
    'Write what goes out to a gateway and comes back as an HTTP Archive, secrets masked',
    'record ios --out ios.har',
  )
    .option('--seconds <number>', 'for so long', '60')
    .option('--count <number>', 'until there are so many exchanges')
    .option('--out <file>', 'to this file; else to standard output')
    .action(withContext(io, done, record))
}

async function show(context: Context<object>, platform: string | undefined): Promise<number> {
  const { client, app, flags, io, paint } = context
  if (platform !== undefined) {
    const one = await client.call('readGateway', { params: { app, platform } })
    if (flags.json) printJson(io, one)
    else if (one.text === null)
      throw new UsageError(`There is no profile for ${platform}; begin one with: ${called(io)} gateway new`)
    else {
      io.err(`${stands(one)}\n`)
      io.out(one.text.endsWith('\n') ? one.text : `${one.text}\n`)
    }
    return exitCodes.done
  }
  const page = await client.call('listGateways', { params: { app } })
  if (flags.json) printJson(io, page)
  else {
    const rows = page.items.map((one) => [
      one.platform,
      one.profile ?? (one.platform === 'web' ? 'the standard' : paint.bad('✕ none yet')),
      one.version !== null ? `version ${one.version}` : one.profile === null ? '–' : 'the configuration’s',
      one.origin ?? (one.platform === 'web' ? 'each browser’s own' : '–'),
      one.asksFor ?? '–',
      one.bodyBytes === null ? '–' : one.bodyBytes.toLocaleString('en'),
      one.outdatedFrom ? paint.bad(`✕ outdated from ${one.outdatedFrom}`) : '',
    ])
    io.out(table(['platform', 'profile', 'whose', 'origin', 'asks for', 'bytes', ''], rows, paint.dim))
  }
  return exitCodes.done
}

/** It stands here, and nobody has to be asked. */
function begin(flags: NewFlags, io: Io): number {
  const kind = profileKinds.find((one) => one === flags.kind)
  if (!kind) throw new UsageError(`There is no kind ${flags.kind}; there are ${profileKinds.join(', ')}.`)
  const { platform = usual[kind] } = flags
  if (platform !== 'ios' && platform !== 'android')
    throw new UsageError(`There is no profile for ${platform}; there are those for ios and android.`)
  io.out(exampleProfile(kind, platform))
  return exitCodes.done
}

const usual: Readonly<Record<ProfileKind, 'ios' | 'android'>> = {
  'signed-token': 'ios',
  grant: 'android',
  'client-certificate': 'ios',
}

async function save(context: Context<SaveFlags>, file: string): Promise<number> {
  const { client, app, flags, io } = context
  const text = readProfile(file)
  const { faults, profile } = await client.call('lintGateway', { params: { app }, body: { text } })
  if (!profile) {
    if (flags.json) printJson(io, { faults })
    else tellFaults(io, file, faults)
    return exitCodes.invalid
  }
  const body = { profile: text, use: !flags.wait }
  const saved = await client.call('saveGateway', { params: { app, platform: profile.platform }, body })
  return tell(context, saved)
}

async function pull(context: Context<object>, platform: string): Promise<number> {
  const { client, app, flags, io } = context
  const now = await client.call('readGateway', { params: { app, platform } })
  if (now.text === null)
    throw new UsageError(`There is no profile for ${platform} to pull; begin one with: ${called(io)} gateway new`)
  if (now.version !== null) {
    if (flags.json) printJson(io, now)
    else io.out(`${stands(now)} It is the app’s own already.\n`)
    return exitCodes.done
  }
  return tell(context, await client.call('saveGateway', { params: { app, platform }, body: { profile: now.text } }))
}

async function versions({ client, app, flags, io, paint }: Context<object>, platform: string): Promise<number> {
  const items = await client.all('listGatewayVersions', { params: { app, platform } })
  if (flags.json) printJson(io, { items, next: null })
  else if (items.length === 0)
    io.out(`${platform} has no profile of the app’s own. Save one with: ${called(io)} gateway save FILE\n`)
  else {
    const rows = items.map((one) => [
      String(one.version),
      one.state === 'in-use' ? paint.good('● in use') : paint.dim(`– ${one.state}`),
      one.profile,
      one.asksFor ?? '–',
      moment(one.madeAt, io),
      safe(one.madeBy),
    ])
    io.out(table(['version', 'state', 'profile', 'asks for', 'made', 'by'], rows, paint.dim))
  }
  return exitCodes.done
}

/** Whose profile is in use. */
function stands({ platform, profile, version, waiting }: Gateway): string {
  const also = waiting === null ? '' : `; version ${waiting} waits`
  if (profile === null) return `${platform} has no profile${also}.`
  return version === null
    ? `${platform} speaks by ${profile}, which the service’s configuration names${also}.`
    : `${platform} speaks by ${profile}, version ${version} of the app’s own${also}.`
}

function tell({ flags, io }: Context<object>, one: Gateway): number {
  if (flags.json) printJson(io, one)
  else io.out(`${stands(one)}\n`)
  return exitCodes.done
}
