import { createReadStream, createWriteStream, statSync } from 'node:fs'
import { extname } from 'node:path'
import { Readable } from 'node:stream'
import { pipeline } from 'node:stream/promises'
import type { Transferable } from '@zbell/contract'
import type { Command } from 'commander'
import { called } from '../called.ts'
import { safe } from '../drawing/text.ts'
import { exitCodes, UsageError } from '../exit-codes.ts'
import type { Io } from '../io.ts'
import { type Context, printJson, type Run, withContext } from './context.ts'

type ExportFlags = { readonly format?: 'csv' | 'ndjson'; readonly output?: string }
type ImportFlags = { readonly format?: 'csv' | 'ndjson' }

export function transferCommands(program: Command, io: Io, done: Run): void {
  program
    .command('export <what> [notification]')
    .description('Export devices, users, topics or notifications, or the deliveries of one, as a file')
    .option('--output <file>', 'into this file; else onto the terminal')
    .option('--format <format>', 'csv or ndjson; else by the file’s name')
    .addHelpText(
      'after',
      '\nExample:\n  $ zbell export users --output passengers.csv\n  $ zbell export deliveries storm --output storm.csv',
    )
    .action(withContext<ExportFlags, [string, string | undefined]>(io, done, exportAll))
  program
    .command('import <what> <file>')
    .description('Import a file of devices, users or topics; refused lines are listed, the others are imported')
    .option('--format <format>', 'csv or ndjson; else by the file’s name')
    .addHelpText('after', '\nExample:\n  $ zbell import users passengers.csv')
    .action(withContext<ImportFlags, [Transferable, string]>(io, done, importAll))
}

function formatOf(flags: ImportFlags, file: string | undefined): 'csv' | 'ndjson' {
  if (flags.format !== undefined) return flags.format
  return file !== undefined && extname(file).toLowerCase() === '.csv' ? 'csv' : 'ndjson'
}

async function exportAll(
  { client, app, flags, io }: Context<ExportFlags>,
  what: string,
  notification: string | undefined,
): Promise<number> {
  const query = { format: formatOf(flags, flags.output) }
  const given = { query, signal: io.stop }
  if (what === 'deliveries' && notification === undefined)
    throw new UsageError(`say of which notification: ${called(io)} export deliveries ID`)
  const content = await (what === 'deliveries'
    ? client.stream('exportDeliveries', { ...given, params: { app, id: notification! } })
    : what === 'notifications'
      ? client.stream('exportNotifications', { ...given, params: { app } })
      : client.stream('exportList', { ...given, params: { app, what } }))
  if (flags.output === undefined) {
    const decoder = new TextDecoder()
    for await (const part of content) {
      io.out(decoder.decode(part, { stream: true }))
      await io.caughtUp?.()
    }
    return exitCodes.done
  }
  await pipeline(Readable.fromWeb(content as never), createWriteStream(flags.output, { mode: 0o600 }))
  io.err(`${flags.output} has all ${what}; it can be read by you alone.\n`)
  return exitCodes.done
}

const barWidth = 30

async function importAll(
  { client, app, flags, io, paint }: Context<ImportFlags>,
  what: Transferable,
  file: string,
): Promise<number> {
  let size: number
  try {
    size = statSync(file).size
  } catch (error) {
    throw new UsageError(`${file} cannot be read (${(error as NodeJS.ErrnoException).code}); check its name.`)
  }
  const type = formatOf(flags, file) === 'csv' ? 'text/csv' : 'application/x-ndjson'
  const draw = (sent: number) => {
    const full = size === 0 ? barWidth : Math.round((sent / size) * barWidth)
    if (io.colour)
      io.err(`\r  ${'━'.repeat(full)}${'─'.repeat(barWidth - full)}  ${Math.floor((sent / Math.max(size, 1)) * 100)} %`)
  }
  const content = async function* () {
    let sent = 0
    for await (const read of createReadStream(file)) {
      const part = read as Buffer
      yield part
      sent += part.length
      draw(sent)
    }
  }
  const done = await client.upload(
    'importList',
    { params: { app, what }, signal: io.stop },
    { type, content: content() },
  )
  if (io.colour) io.err('\n')
  if (flags.json) printJson(io, done)
  else {
    io.out(`${done.taken.toLocaleString('en')} taken, ${done.refused.toLocaleString('en')} refused.\n`)
    for (const { line, says } of done.faults) io.out(`${paint.dim(`${file}:${line}`)}  ${safe(says)}\n`)
    if (done.refused > done.faults.length)
      io.out(paint.dim(`and ${(done.refused - done.faults.length).toLocaleString('en')} more.\n`))
  }
  return done.refused === 0 ? exitCodes.done : exitCodes.invalid
}
