import type { When } from '@zbell/contract'
import { firstZone, whenOfTyped } from '@zbell/contract/words'
import type { Command } from 'commander'
import { moment } from '../drawing/time.ts'
import { UsageError } from '../exit-codes.ts'
import type { Context } from './context.ts'

export type WhenFlags = {
  readonly at?: string
  readonly local?: string
  readonly in?: string
  readonly zone?: string
  readonly repeat?: string
  readonly past?: string
  readonly also?: string[]
  readonly except?: string[]
}

/** Adds the options that say when. */
export const withWhen = (command: Command): Command =>
  command
    .option('--at <time>', 'at 18:00, "tomorrow 18:00", "2026-11-27 18:00" or an instant')
    .option('--local <time>', 'the same for a time without an offset, such as 07:30')
    .option('--in <span>', 'after 15m, 1h30m or 2d')
    .option('--zone <zone>', 'by the clock of this IANA zone, or reader for that of each reader; yours when left out')
    .option('--past <what>', 'with --zone reader: skip, now or tomorrow for those for whom it is over')
    .option('--repeat <rule>', 'again and again, by RFC 5545: "FREQ=WEEKLY;BYDAY=MO,TU"')

/** What the flags say about when. @throws {UsageError} for what cannot be read */
export function whenIn(
  { at: given, local, in: after, zone, repeat, past, also, except }: WhenFlags,
  ownZone: string,
): When | undefined {
  if (given !== undefined && local !== undefined) throw new UsageError('Give --at or --local, not both.')
  const at = given ?? local
  const read = whenOfTyped({ at, in: after, zone, repeat, past, also, except }, Date.now(), ownZone)
  if (typeof read === 'string') throw new UsageError(`${read[0]?.toUpperCase()}${read.slice(1)}.`)
  return read as When | undefined
}

/** So many times are said of something that repeats. */
const shown = 3

/** Says what was understood, before anything is stored: the first times, in the zone in which they are meant. */
export async function sayUnderstood({ client, app, io, paint }: Context<object>, when: When): Promise<void> {
  const { times } = await client.call('previewSchedule', { params: { app }, body: { when, count: shown } })
  if (times.length === 0) return
  const isReaders = when.zone === 'reader'
  const zone = isReaders ? firstZone : (when.zone ?? io.timeZone)
  // Where the day begins first the clock shows what it will show each reader.
  const said = times.map((time) => moment(time, { ...io, timeZone: zone }).replace(isReaders ? / \S+$/ : '', ''))
  const more =
    when.repeat === undefined ? '' : `, then ${said.slice(1).join(', ')}${times.length === shown ? ' …' : ''}`
  io.err(`${paint.dim('Rings')} ${said[0]}${more} ${paint.dim(`(${isReaders ? 'each reader’s clock' : zone})`)}\n`)
}
