import { readFileSync } from 'node:fs'
import type { Command } from 'commander'
import { table } from '../drawing/table.ts'
import { safe } from '../drawing/text.ts'
import { exitCodes, UsageError } from '../exit-codes.ts'
import type { Io } from '../io.ts'
import { type Context, printJson, type Run, withContext } from './context.ts'

type TryFlags = { readonly device?: string; readonly title?: string; readonly body?: string; readonly send?: boolean }

export function gatewayCommands(program: Command, io: Io, done: Run): void {
  const group = program.command('gateway').description('Look at the gateways and their profiles')
  group
    .command('show')
    .description('Which gateways are known, where they are and what they ask for')
    .addHelpText('after', '\nExample:\n  $ zbell gateway show')
    .action(withContext<object, []>(io, done, show))
  group
    .command('lint <file>')
    .description('Read a gateway profile and name each fault with its line and column')
    .addHelpText('after', '\nExample:\n  $ zbell gateway lint ios.yaml')
    .action(withContext<object, [string]>(io, done, lint))
  group
    .command('try <platform>')
    .description('Print the exact request that would go out, secrets masked')
    .option('--device <id>', 'for this device; else for one that cannot exist')
    .option('--title <text>', 'the first line')
    .option('--body <text>', 'the text below it')
    .option('--send', 'send it, and explain the answer')
    .addHelpText('after', '\nExample:\n  $ zbell gateway try ios --title "Boarding is open" --send')
    .action(withContext<TryFlags, [string]>(io, done, attempt))
}

async function show({ client, app, flags, io, paint }: Context<object>): Promise<number> {
  const page = await client.call('listGateways', { params: { app } })
  if (flags.json) printJson(io, page)
  else {
    const rows = page.items.map((one) => [
      one.platform,
      one.profile ?? (one.platform === 'web' ? 'the standard' : paint.bad('✕ none named')),
      one.origin ?? (one.platform === 'web' ? 'each browser’s own' : '–'),
      one.asksFor ?? '–',
      one.bodyBytes === null ? '–' : one.bodyBytes.toLocaleString('en'),
      one.outdatedFrom ? paint.bad(`✕ outdated from ${one.outdatedFrom}`) : '',
    ])
    io.out(table(['platform', 'profile', 'origin', 'asks for', 'bytes', ''], rows, paint.dim))
  }
  return exitCodes.done
}

async function lint({ client, app, flags, io, paint }: Context<object>, file: string): Promise<number> {
  let text: string
  try {
    text = readFileSync(file, 'utf8')
  } catch (error) {
    throw new UsageError(`${file} cannot be read (${(error as NodeJS.ErrnoException).code}); check its name.`)
  }
  const { faults } = await client.call('lintGateway', { params: { app }, body: { text } })
  if (flags.json) printJson(io, { faults })
  else if (faults.length === 0) io.out(`${paint.good('●')} ${file} can be used.\n`)
  else for (const { line, column, says } of faults) io.out(`${file}:${line}:${column}  ${safe(says)}\n`)
  return faults.length === 0 ? exitCodes.done : exitCodes.invalid
}

async function attempt({ client, app, flags, io, paint }: Context<TryFlags>, platform: string): Promise<number> {
  const { device, title, body, send } = flags
  const content = { ...(title === undefined ? {} : { title }), ...(body === undefined ? {} : { body }) }
  const trial = await client.call('tryGateway', {
    params: { app, platform },
    body: { content, ...(device === undefined ? {} : { device }), ...(send ? { send } : {}) },
  })
  if (flags.json) {
    printJson(io, trial)
    return exitCodes.done
  }
  const { request, answer } = trial
  const headers = (given: Record<string, string>) =>
    Object.entries(given)
      .map(([name, value]) => `${paint.dim(`${safe(name)}:`)} ${safe(value)}\n`)
      .join('')
  io.out(`${paint.strong(request.method)} ${safe(request.url)}\n${headers(request.headers)}\n${safe(request.body)}\n`)
  if (answer)
    io.out(
      `\n${paint.strong(String(answer.status))}\n${headers(answer.headers)}${answer.body ? `\n${safe(answer.body)}\n` : ''}\n${answer.outcome}: ${answer.says}\n`,
    )
  else io.out(paint.dim(`\n${request.bodyBytes.toLocaleString('en')} bytes. Nothing was sent; --send sends it.\n`))
  return exitCodes.done
}
