import { readFileSync } from 'node:fs'
import { safe } from '../drawing/text.ts'
import { exitCodes, UsageError } from '../exit-codes.ts'
import type { Io } from '../io.ts'
import { type Context, printJson } from './context.ts'

type TryFlags = {
  readonly with?: string
  readonly device?: string
  readonly title?: string
  readonly body?: string
  readonly send?: boolean
}
type Fault = { readonly line: number; readonly column: number; readonly says: string }

/** @throws {UsageError} for a file that cannot be read */
export function readProfile(file: string): string {
  try {
    return readFileSync(file, 'utf8')
  } catch (error) {
    throw new UsageError(`${file} cannot be read (${(error as NodeJS.ErrnoException).code}); check its name.`)
  }
}

/** Faults as compilers name them: file, line, column. */
export function tellFaults(io: Io, file: string, faults: readonly Fault[]): void {
  for (const { line, column, says } of faults) io.out(`${file}:${line}:${column}  ${safe(says)}\n`)
}

export async function lint({ client, app, flags, io, paint }: Context<object>, file: string): Promise<number> {
  const linted = await client.call('lintGateway', { params: { app }, body: { text: readProfile(file) } })
  const { faults, profile } = linted
  if (flags.json) printJson(io, linted)
  else if (!profile) tellFaults(io, file, faults)
  else {
    const facts = profile.facts.length === 0 ? '' : `, with the facts ${profile.facts.join(', ')}`
    io.out(`${paint.good('●')} ${file} can be used: ${profile.platform}, and asks for a ${profile.asksFor}${facts}.\n`)
  }
  return faults.length === 0 ? exitCodes.done : exitCodes.invalid
}

export async function attempt({ client, app, flags, io, paint }: Context<TryFlags>, platform: string): Promise<number> {
  const { device, title, body, send } = flags
  const content = { ...(title === undefined ? {} : { title }), ...(body === undefined ? {} : { body }) }
  const trial = await client.call('tryGateway', {
    params: { app, platform },
    body: {
      content,
      ...(flags.with === undefined ? {} : { profile: readProfile(flags.with) }),
      ...(device === undefined ? {} : { device }),
      ...(send ? { send } : {}),
    },
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
