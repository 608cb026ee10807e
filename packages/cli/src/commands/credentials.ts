import { readFileSync } from 'node:fs'
import { basename } from 'node:path'
import type { Credential, ProblemBody } from '@zbell/contract'
import { ProblemError } from '@zbell/contract/client'
import { ago } from '@zbell/contract/words'
import type { Command } from 'commander'
import { called } from '../called.ts'
import { table } from '../drawing/table.ts'
import { safe } from '../drawing/text.ts'
import { moment } from '../drawing/time.ts'
import { exitCodes, UsageError } from '../exit-codes.ts'
import type { Io } from '../io.ts'
import { asking } from './asking.ts'
import { type Context, printJson, type Run, withContext } from './context.ts'

type Platform = 'ios' | 'android' | 'web'
type AddFlags = {
  readonly platform: Platform
  readonly passphraseFile?: string
  readonly keyId?: string
  readonly issuer?: string
  readonly scope?: string
  readonly tokenAddress?: string
  readonly subject?: string
  readonly fact?: readonly string[]
  readonly use?: boolean
  readonly retire?: string
}

export function credentialCommands(program: Command, io: Io, done: Run): void {
  const group = program.command('credential').description('Add, show and change what the gateways ask for')
  const platform = ['--platform <platform>', 'ios, android or web'] as const
  group
    .command('add <file...>')
    .description('Add a credential; its kind is recognised')
    .requiredOption(...platform)
    .option('--passphrase-file <file>', 'a file with the passphrase; else it is asked for when it is needed')
    .option('--key-id <id>', 'what the platform calls the key')
    .option('--issuer <name>', 'what the platform calls your account')
    .option('--scope <scope>', 'the scope that a service key asks for')
    .option('--token-address <address>', 'where a service key gets its tokens')
    .option('--subject <address>', 'how push services reach you: mailto:… or https:…')
    .option('--fact <name=value...>', 'a fact of the account that the gateway profile speaks of')
    .option('--use', 'put it in use at once, also when another one is')
    .option('--retire <id>', 'the one that waits, which makes room for this one')
    .addHelpText('after', '\nExample:\n  $ zbell credential add ferries.p12 --platform ios')
    .action(withContext<AddFlags, [string[]]>(io, done, add))
  group
    .command('make')
    .description('Create a web key pair here')
    .requiredOption('--subject <address>', 'how push services reach you: mailto:… or https:…')
    .option('--use', 'put it in use at once, also when another one is')
    .option('--retire <id>', 'the one that waits, which makes room for this one')
    .addHelpText('after', '\nExample:\n  $ zbell credential make --subject mailto:bell@merrow-sound.example')
    .action(withContext<AddFlags, []>(io, done, make))
  group
    .command('request')
    .description('Create a key here, and print the request for its certificate; the key never leaves')
    .requiredOption(...platform)
    .requiredOption('--for <name>', 'what the certificate shall be for')
    .addHelpText(
      'after',
      '\nExample:\n  $ zbell credential request --platform ios --for "Merrow Sound Ferries" > ferries.csr',
    )
    .action(withContext<{ platform: 'ios' | 'android'; for: string }, []>(io, done, request))
  group
    .command('list')
    .description('Credentials: in use, waiting, requested, retired')
    .addHelpText('after', '\nExample:\n  $ zbell credential list')
    .action(withContext<object, []>(io, done, list))
  group
    .command('use <id>')
    .description('Put a credential in use; the one before waits, so that it can be taken back')
    .option('--retire <id>', 'the one that waits, which makes room for one that was retired')
    .addHelpText('after', '\nExample:\n  $ zbell credential use 01980c2e-7c1a-7d34-9f0b-5a3c6f1d2e4b')
    .action(withContext<{ readonly retire?: string }, [string]>(io, done, use))
  group
    .command('check [id]')
    .description('Check with the gateway whether it accepts this credential; without an id, each one in use')
    .addHelpText('after', '\nExample:\n  $ zbell credential check')
    .action(withContext<object, [string | undefined]>(io, done, check))
  group
    .command('facts <id> <name=value...>')
    .description('Set the account’s facts beside a credential, in place of those before')
    .addHelpText(
      'after',
      '\nExample:\n  $ zbell credential facts 01980c2e-7c1a-7d34-9f0b-5a3c6f1d2e4b project=merrow-sound',
    )
    .action(
      withContext<object, [string, string[]]>(io, done, async (context, id, given) => {
        const body = { facts: factsOf(given) }
        return tell(context, await context.client.call('changeCredential', { params: { app: context.app, id }, body }))
      }),
    )
  group
    .command('retire <id>')
    .description('Retire a credential; it stays in the record')
    .addHelpText('after', '\nExample:\n  $ zbell credential retire 01980c2e-7c1a-7d34-9f0b-5a3c6f1d2e4b')
    .action(
      withContext<object, [string]>(io, done, async (context, id) =>
        tell(context, await context.client.call('retireCredential', { params: { app: context.app, id } })),
      ),
    )
}

async function add(context: Context<AddFlags>, names: string[]): Promise<number> {
  const { client, app, flags, io } = context
  const { platform, passphraseFile, keyId, issuer, scope, tokenAddress, subject, fact, use } = flags
  const facts = fact === undefined ? undefined : factsOf(fact)
  const files = names.map((name) => ({ name: basename(name), content: read(name).toString('base64') }))
  const extras = Object.fromEntries(
    Object.entries({ keyId, issuer, scope, tokenAddress, subject, facts, use }).filter(
      ([, value]) => value !== undefined,
    ),
  )
  const call = (passphrase: string | undefined, retires: string | undefined) =>
    client.call('addCredential', {
      params: { app },
      body: {
        platform,
        files,
        ...extras,
        ...(passphrase === undefined ? {} : { passphrase }),
        ...(retires === undefined ? {} : { retires }),
      },
    })
  // One line end is the file's, not the passphrase's.
  const given =
    passphraseFile === undefined
      ? undefined
      : read(passphraseFile)
          .toString('utf8')
          .replace(/\r?\n$/, '')
  try {
    const added = await asking(
      (passphrase) => asking((retires) => call(passphrase, retires), flags.retire, askToRetire(io)),
      given,
      askPassphrase(io),
    )
    return tell(context, added)
  } catch (error) {
    sayGuesses(io, error)
    throw error
  }
}

const askPassphrase =
  ({ askSecret }: Io) =>
  ({ errors }: ProblemBody): Promise<string> | undefined =>
    errors?.some(({ code }) => code === 'passphrase-needed') ? askSecret?.('Passphrase: ') : undefined

/** Asks before one that waits is retired by another; where nobody is here, says how to name it. */
const askToRetire =
  ({ ask, err }: Io) =>
  async ({ code, detail, errors }: ProblemBody): Promise<string | undefined> => {
    const id = code === 'credential-waits' ? errors?.[0]?.looksLike : undefined
    if (id === undefined) return undefined
    if (!ask) {
      err(`To retire it: --retire ${safe(id)}\n`)
      return undefined
    }
    err(`${safe(detail)}\n`)
    return (await ask('Retire it? [yes/no] ')).trim().toLowerCase() === 'yes' ? id : undefined
  }

/** What is missing and seems to stand in the file or its name, as it would be given. */
function sayGuesses(io: Io, error: unknown): void {
  if (!(error instanceof ProblemError) || error.problem.code !== 'invalid-request') return
  for (const { pointer, looksLike } of error.problem.errors ?? [])
    if (looksLike !== undefined) {
      const flag = pointer.slice(1).replace(/[A-Z]/g, (letter) => `-${letter.toLowerCase()}`)
      io.err(`The file or its name seems to say it: --${flag} ${safe(looksLike)}\n`)
    }
}

async function make(context: Context<AddFlags>): Promise<number> {
  const { client, app, flags, io } = context
  const body = { platform: 'web', subject: flags.subject ?? '', ...(flags.use ? { use: true } : {}) } as const
  const call = (retires: string | undefined) =>
    client.call('makeCredential', { params: { app }, body: { ...body, ...(retires === undefined ? {} : { retires }) } })
  return tell(context, await asking(call, flags.retire, askToRetire(io)))
}

async function request({
  client,
  app,
  flags,
  io,
}: Context<{ platform: 'ios' | 'android'; for: string }>): Promise<number> {
  const made = await client.call('requestCertificate', {
    params: { app },
    body: { platform: flags.platform, commonName: flags.for },
  })
  if (flags.json) printJson(io, made)
  else {
    io.out(made.request)
    io.err(
      `Upload this request at the platform; then add the certificate that comes back: ${called(io)} credential add FILE\n`,
    )
  }
  return 0
}

async function list(context: Context<object>): Promise<number> {
  const { client, app, flags, io, paint } = context
  const page = { items: await client.all('listCredentials', { params: { app } }), next: null }
  if (flags.json) printJson(io, page)
  else if (page.items.length === 0)
    io.out(`There is no credential yet. Add one with: ${called(io)} credential add FILE --platform …\n`)
  else {
    const rows = page.items.map((one) => [
      one.id,
      one.rejectedAt
        ? paint.bad(`✕ ${one.state}, refused`)
        : one.state === 'in-use'
          ? paint.good(`● ${one.state}`)
          : paint.dim(`– ${one.state}`),
      one.kind,
      one.platform,
      safe([one.keyId ?? one.subject ?? '–', ...factsSaid(one)].join(' ')),
      validity(one, context),
      one.usedAt ? ago(one.usedAt, Date.now()) : 'never',
    ])
    io.out(table(['id', 'state', 'kind', 'platform', 'named', 'valid', 'last used'], rows, paint.dim))
  }
  return 0
}

/** Until when, and what is coming: its end is announced by a word and a shape, not by colour alone. */
function validity(one: Credential, { io, paint }: Context<object>): string {
  if (one.gatewayOutdatedFrom) return paint.bad(`✕ gateway outdated from ${one.gatewayOutdatedFrom}`)
  if (one.notAfter === null) return '–'
  const until = `until ${moment(one.notAfter, io)}`
  if (one.expiresWithinDays === 0) return paint.bad(`✕ expired, ${until}`)
  return one.expiresWithinDays === null ? until : paint.wait(`▲ ${one.expiresWithinDays} days or less, ${until}`)
}

async function check({ client, app, flags, io, paint }: Context<object>, id: string | undefined): Promise<number> {
  const listed =
    id === undefined
      ? (await client.all('listCredentials', { params: { app } })).filter((one) => one.state === 'in-use')
      : []
  const ids = id === undefined ? listed.map((one) => one.id) : [id]
  const checked: Credential[] = []
  for (const each of ids) checked.push(await client.call('checkCredential', { params: { app, id: each } }))
  if (flags.json) printJson(io, { items: checked })
  for (const one of flags.json ? [] : checked) {
    const good = one.check?.verdict === 'works'
    const shape = good ? paint.good('●') : one.check?.verdict === 'not-checkable' ? paint.dim('–') : paint.bad('✕')
    io.out(
      `${shape} ${one.kind} for ${one.platform}  ${paint.dim(`${one.check?.roundTripMs ?? 0} ms`)}\n  ${one.check?.says ?? ''}\n`,
    )
  }
  return checked.every((one) => one.check?.verdict === 'works' || one.check?.verdict === 'not-checkable')
    ? exitCodes.done
    : exitCodes.invalid
}

async function use(context: Context<{ readonly retire?: string }>, id: string): Promise<number> {
  const { client, app, flags, io } = context
  const call = (retires: string | undefined) =>
    client.call('useCredential', { params: { app, id }, query: retires === undefined ? {} : { retires } })
  return tell(context, await asking(call, flags.retire, askToRetire(io)))
}

const factsSaid = ({ facts }: Credential): string[] => Object.entries(facts).map(([name, value]) => `${name}=${value}`)

/** @throws {UsageError} */
function factsOf(given: readonly string[]): Record<string, string> {
  return Object.fromEntries(
    given.map((one) => {
      const at = one.indexOf('=')
      if (at < 1) throw new UsageError(`A fact is given as NAME=VALUE, not as ${one}.`)
      return [one.slice(0, at), one.slice(at + 1)]
    }),
  )
}

const stands: Record<Credential['state'], string> = {
  requested: 'waits for its certificate',
  'in-use': 'is in use',
  waiting: 'waits',
  retired: 'is retired',
}

/** What ends within so many days is said when it is added. */
const soonDays = 30

function tell({ flags, io, paint }: Context<object>, one: Credential): number {
  if (flags.json) printJson(io, one)
  else {
    const until = one.notAfter ? `, valid until ${moment(one.notAfter, io)}` : ''
    const facts = factsSaid(one)
    const beside = facts.length === 0 ? '' : `, with ${facts.join(', ')}`
    const says = one.origins.length === 0 ? beside : `${beside}; it goes to ${one.origins.join(' and ')} only`
    io.out(
      `${one.id}\nIt is a ${one.kind} for ${one.platform} in ${one.environment}, and ${stands[one.state]}${until}${safe(says)}.\n`,
    )
    if (one.state === 'waiting') io.out(`Put it in use with: ${called(io)} credential use ${one.id}\n`)
    const { expiresWithinDays: days } = one
    if (days !== null && days > 0 && days <= soonDays && one.state !== 'retired')
      io.out(`${paint.wait('▲')} It ends within ${days} ${days === 1 ? 'day' : 'days'}: have the next one ready.\n`)
  }
  return 0
}

function read(name: string): Buffer {
  try {
    return readFileSync(name)
  } catch (error) {
    throw new UsageError(`${name} cannot be read (${(error as NodeJS.ErrnoException).code}); check its name.`)
  }
}
