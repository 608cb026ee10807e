import { readFileSync } from 'node:fs'
import { ProblemError } from '@zbell/contract/client'
import type { Command } from 'commander'
import { called } from '../called.ts'
import { clauses } from '../drawing/clauses.ts'
import { table } from '../drawing/table.ts'
import { cut, safe } from '../drawing/text.ts'
import { moment } from '../drawing/time.ts'
import { exitCodes, UsageError } from '../exit-codes.ts'
import type { Io } from '../io.ts'
import { type Context, printJson, type Run, withContext } from './context.ts'
import { listVerb } from './verbs.ts'

type SaveFlags = { readonly note?: string; readonly file?: string }
type PageFlags = { readonly limit: string; readonly after?: string }

/** Rules with a name: who belongs, how many, and why somebody does. */
export function segmentCommands(program: Command, io: Io, done: Run): void {
  const group = program.command('segment').description('Rules with a name: who belongs, how many, and why')
  listVerb(group, { io, done, noun: 'segment' }, 'Segments, each with its rule', {
    read: ({ client, app }) => client.all('listSegments', { params: { app } }),
    none: (zbell) => `There is no segment yet. Try: ${zbell} segment save commuters 'follows("route-4")'`,
    head: ['segment', 'version', 'saved', 'rule'],
    row: (one, io) => [
      one.name,
      String(one.version),
      moment(one.madeAt, io),
      cut(safe(one.rule.replaceAll(/\s+/g, ' ')), 80),
    ],
  })
  group
    .command('show <name>')
    .description('One segment')
    .addHelpText('after', '\nExample:\n  $ zbell segment show commuters')
    .action(withContext<object, [string]>(io, done, show))
  group
    .command('save <name> [rule]')
    .description('Save a segment; a change is a new version')
    .option('--file <path>', 'a file that has the rule')
    .option('--note <text>', 'what it is for')
    .addHelpText('after', `\nExample:\n  $ zbell segment save commuters 'user.pass == "season" && follows("route-4")'`)
    .action(withContext<SaveFlags, [string, string | undefined]>(io, done, save))
  group
    .command('delete <name>')
    .description('Remove a segment that no other one uses')
    .addHelpText('after', '\nExample:\n  $ zbell segment delete commuters')
    .action(withContext<object, [string]>(io, done, remove))
  group
    .command('count <rule-or-name>')
    .description('How many devices a rule or a segment matches, with some of them')
    .addHelpText('after', `\nExample:\n  $ zbell segment count 'user.trips > 10'\n  $ zbell segment count commuters`)
    .action(withContext<object, [string]>(io, done, count))
  group
    .command('members <name>')
    .description('The devices of a segment at this moment, and whose they are')
    .option('--limit <count>', 'at most so many, up to 200', '50')
    .option('--after <place>', 'go on where the page before ended')
    .addHelpText('after', '\nExample:\n  $ zbell segment members commuters')
    .action(withContext<PageFlags, [string]>(io, done, members))
  group
    .command('try <rule-or-name> <user-or-device>')
    .description('Whether somebody belongs, clause by clause: a user’s name, or device:ID')
    .addHelpText('after', `\nExample:\n  $ zbell segment try commuters ada\n  $ zbell segment try 'has(user.pass)' ada`)
    .action(withContext<object, [string, string]>(io, done, tryOn))
}

const name = /^[a-z0-9][a-z0-9._-]{0,63}$/
/** A word is a segment's name; whatever else is written is a rule. */
const isName = (text: string): boolean => name.test(text) && text !== 'true' && text !== 'false'

async function show({ client, app, flags, io, paint }: Context<object>, segment: string): Promise<number> {
  const found = await client.call('readSegment', { params: { app, segment } })
  if (flags.json) printJson(io, found)
  else
    io.out(
      [
        `${found.name} ${paint.dim(`version ${found.version}, by ${safe(found.madeBy)}, ${moment(found.madeAt, io)}`)}`,
        ...(found.note === null ? [] : [safe(found.note)]),
        safe(found.rule),
        '',
      ].join('\n'),
    )
  return exitCodes.done
}

async function save(context: Context<SaveFlags>, segment: string, given: string | undefined): Promise<number> {
  const { client, app, flags, io } = context
  if ((given === undefined) === (flags.file === undefined))
    throw new UsageError('give the rule, or --file with a file that has it')
  const rule = given ?? readFileSync(flags.file ?? '', 'utf8').trim()
  const saved = await pointing(io, rule, () =>
    client.call('saveSegment', { params: { app, segment }, body: { rule, note: flags.note ?? null } }),
  )
  if (!flags.json) warn(io, rule, saved.warnings)
  if (flags.json) printJson(io, saved)
  else
    io.out(
      `Saved as ${saved.name}, version ${saved.version}. Count it with: ${called(io)} segment count ${saved.name}\n`,
    )
  return exitCodes.done
}

async function remove({ client, app, io }: Context<object>, segment: string): Promise<number> {
  await client.call('deleteSegment', { params: { app, segment } })
  io.out(`${segment} is off the list.\n`)
  return exitCodes.done
}

async function count({ client, app, flags, io, paint }: Context<object>, given: string): Promise<number> {
  const rule = isName(given) ? `segment("${given}")` : given
  const found = await pointing(io, rule, () =>
    client.call('countRule', { params: { app }, body: { rule, exact: true } }),
  )
  if (flags.json) {
    printJson(io, found)
    return exitCodes.done
  }
  const { people, devices, reachable, perPlatform, examples, warnings } = found
  warn(io, rule, warnings)
  const say = (number: number, one: string, many: string) =>
    `${number.toLocaleString('en')} ${number === 1 ? one : many}`
  const platforms = Object.entries(perPlatform)
    .filter(([, number]) => number > 0)
    .map(([platform, number]) => `${platform} ${number.toLocaleString('en')}`)
  io.out(
    [
      `${say(people, 'person', 'people')}, ${say(devices, 'device', 'devices')}${platforms.length > 0 ? ` (${platforms.join(', ')})` : ''}; ${reachable.toLocaleString('en')} can be rung`,
      ...(examples.length > 0
        ? [
            paint.dim(
              `such as ${[...new Set(examples.map(({ user, device }) => user ?? device))].map(safe).join(', ')}`,
            ),
          ]
        : []),
      '',
    ].join('\n'),
  )
  return exitCodes.done
}

async function members({ client, app, flags, io, paint }: Context<PageFlags>, segment: string): Promise<number> {
  const { limit, after } = flags
  const page = await client.call('listSegmentMembers', {
    params: { app, segment },
    query: { limit, ...(after === undefined ? {} : { after }) },
  })
  if (flags.json) printJson(io, page)
  else if (page.items.length === 0) io.out('Nobody belongs at this moment.\n')
  else {
    io.out(
      table(
        ['user', 'device'],
        page.items.map(({ user, device }) => [user === null ? '–' : safe(user), device]),
        paint.dim,
      ),
    )
    if (page.next !== null) io.out(paint.dim(`more: --after ${page.next}\n`))
  }
  return exitCodes.done
}

async function tryOn(context: Context<object>, given: string, who: string): Promise<number> {
  const { client, app, flags, io, paint } = context
  const asked = isName(given) ? { segment: given } : { rule: given }
  const whom = who.startsWith('device:') ? { device: who.slice('device:'.length) } : { user: who }
  const found = await pointing(io, given, () =>
    client.call('explainRule', { params: { app }, body: { ...asked, ...whom } }),
  )
  if (flags.json) {
    printJson(io, found)
    return exitCodes.done
  }
  const said =
    found.belongs === true
      ? 'belongs'
      : found.belongs === false
        ? 'does not belong'
        : 'does not belong: what decides is not known'
  io.out(`${safe(who)} ${said}.\n`)
  if (found.device === null) io.out('No device of theirs can be rung.\n')
  else io.out(clauses(found.parts, paint))
  return exitCodes.done
}

/** So many faults are shown at once. */
const maxShown = 5

/** What in a rule can never be, each under its line. */
function warn(io: Io, rule: string, warnings: readonly { line: number; column: number; says: string }[]): void {
  for (const { line, column, says } of warnings.slice(0, maxShown)) io.err(placed(rule, line, column, says))
}

const placed = (rule: string, line: number, column: number, says: string): string =>
  `  ${safe(rule.split('\n')[line - 1] ?? '')}\n  ${' '.repeat(column - 1)}^ ${safe(says)}\n`

/** Shows where in a rule its faults are, each under its line. */
async function pointing<T>(io: Io, rule: string, call: () => Promise<T>): Promise<T> {
  try {
    return await call()
  } catch (error) {
    const isOurs = error instanceof ProblemError && error.problem.code === 'rule-refused'
    const faults = isOurs ? (error.problem.errors ?? []) : []
    for (const { line, column, detail } of faults.slice(0, maxShown)) {
      if (line !== undefined && column !== undefined) io.err(placed(rule, line, column, detail))
    }
    throw error
  }
}
