import { ago, attributeOfText, type Direction, type PersonSort, personSorts, sayValue } from '@zbell/contract/words'
import type { Command } from 'commander'
import { table } from '../drawing/table.ts'
import { safe } from '../drawing/text.ts'
import { moment } from '../drawing/time.ts'
import { exitCodes, UsageError } from '../exit-codes.ts'
import type { Io } from '../io.ts'
import { type Context, printJson, type Run, withContext } from './context.ts'

type ListFlags = {
  readonly sort?: PersonSort
  readonly direction?: Direction
  readonly limit: string
  readonly after?: string
  readonly search?: string
  readonly topic?: string
}

export function userCommands(program: Command, io: Io, done: Run): void {
  const group = program.command('user').description('Show people, and set their attributes')
  group
    .command('list')
    .description('People who have a name, newest first')
    .option('--search <beginning>', 'whose name begins so')
    .option('--topic <topic>', 'who joined a topic')
    .option('--sort <column>', `by ${Object.keys(personSorts).join(', ')}, or attribute. and a name`)
    .option('--direction <direction>', 'ascending or descending')
    .option('--limit <count>', 'at most so many, up to 200', '50')
    .option('--after <place>', 'go on where the page before ended')
    .addHelpText(
      'after',
      '\nExample:\n  $ zbell user list --topic route-4\n  $ zbell user list --sort attribute.homePier',
    )
    .action(withContext<ListFlags, []>(io, done, list))
  group
    .command('show <name>')
    .description('One person: devices, attributes, topics and what happened')
    .addHelpText('after', '\nExample:\n  $ zbell user show ada')
    .action(withContext<object, [string]>(io, done, show))
  group
    .command('set <name> <attribute=value...>')
    .description(
      'Set attributes; text, numbers, true and false, instants, longitude,latitude; nothing after = removes one',
    )
    .addHelpText('after', '\nExample:\n  $ zbell user set ada homePier="Lantern Quay" trips=12 bicycle=true pass=')
    .action(withContext<object, [string, string[]]>(io, done, set))
}

async function list({ client, app, flags, io, paint }: Context<ListFlags>): Promise<number> {
  const { limit, after, search, topic, sort, direction } = flags
  const page = await client.call('listUsers', {
    params: { app },
    query: {
      limit,
      ...(sort === undefined ? {} : { sort }),
      ...(direction === undefined ? {} : { direction }),
      ...(after === undefined ? {} : { after }),
      ...(search === undefined ? {} : { search }),
      ...(topic === undefined ? {} : { topic }),
    },
  })
  if (flags.json) printJson(io, page)
  else if (page.items.length === 0) io.out('Nobody has a name here yet.\n')
  else {
    const rows = page.items.map((one) => [
      safe(one.user ?? '–'),
      String(one.devices),
      one.topics.join(' ') || '–',
      Object.entries(one.attributes)
        .map(([name, value]) => `${name}=${safe(sayValue(value))}`)
        .join(' ') || '–',
      ago(one.changedAt, Date.now()),
    ])
    io.out(table(['user', 'devices', 'topics', 'attributes', 'changed'], rows, paint.dim))
    if (page.next) io.out(paint.dim(`More: --after ${page.next}\n`))
  }
  return exitCodes.done
}

async function show({ client, app, flags, io, paint }: Context<object>, user: string): Promise<number> {
  const person = await client.call('readUser', { params: { app, user } })
  if (flags.json) {
    printJson(io, person)
    return exitCodes.done
  }
  const facts = [
    ['user', safe(person.user ?? '–')],
    ...Object.entries(person.attributes).map(([name, value]) => [name, safe(sayValue(value))]),
    ['topics', person.topics.join(' ') || '–'],
    ['muted channels', person.mutedChannels.map(safe).join(' ') || '–'],
    ['quiet hours', person.quietHours.map(({ from, to }) => `${from} – ${to}`).join(', ') || '–'],
    ['first seen', moment(person.createdAt, io)],
  ]
  io.out(table(['', ''], facts, paint.dim).trimStart())
  if (person.devices.length > 0) {
    const rows = person.devices.map((one) => [
      one.id,
      one.platform,
      safe(one.model ?? '–'),
      ago(one.seenAt, Date.now()),
    ])
    io.out(`\n${table(['device', 'platform', 'model', 'seen'], rows, paint.dim)}`)
  }
  if (person.occurrences.length > 0) {
    const rows = person.occurrences.map((one) => [
      moment(one.at, io),
      safe(one.type),
      safe(JSON.stringify(one.data) ?? ''),
    ])
    io.out(`\n${table(['when', 'what happened', ''], rows, paint.dim)}`)
  }
  return exitCodes.done
}

async function set({ client, app, flags, io }: Context<object>, user: string, given: string[]): Promise<number> {
  const changes = Object.fromEntries(
    given.map((text) => {
      const at = text.indexOf('=')
      if (at < 1) throw new UsageError(`${text} is not a name and a value; write it like homePier="Lantern Quay".`)
      return [text.slice(0, at), readValue(text.slice(at + 1))]
    }),
  )
  const attributes = await client.call('changeUserAttributes', { params: { app, user }, body: changes as never })
  if (flags.json) printJson(io, attributes)
  else
    io.out(
      `${
        Object.entries(attributes)
          .map(([name, value]) => `${name}=${safe(sayValue(value))}`)
          .join('  ') || 'nothing is known'
      }\n`,
    )
  return exitCodes.done
}

/** Nothing takes an attribute away; quotes keep a number text: `pass="15"`. */
const readValue = (text: string): unknown => {
  if (text === '') return null
  const [, quoted] = /^"(.*)"$/s.exec(text) ?? []
  return quoted ?? attributeOfText(text)
}
