import type { NotificationRequest, Review } from '@zbell/contract'
import { valueOfText } from '@zbell/contract/words'
import type { Command } from 'commander'
import { drawReview } from '../drawing/review.ts'
import { exitCodes, UsageError } from '../exit-codes.ts'
import type { Io } from '../io.ts'
import { type Context, printJson, type Run, withContext } from './context.ts'
import { readObjectFile } from './notification-file.ts'
import { present, secondsIn } from './reading.ts'
import { watchToEnd } from './watching.ts'
import { sayUnderstood, type WhenFlags, whenIn, withWhen } from './when-flags.ts'

type SendFlags = WhenFlags & {
  readonly to?: string[]
  readonly all?: string[]
  readonly none?: string[]
  readonly platform?: string[]
  readonly where?: string
  readonly file?: string
  readonly template?: string
  readonly title?: string
  readonly subtitle?: string
  readonly body?: string
  readonly navigate?: string
  readonly channel?: string
  readonly tag?: string
  readonly group?: string
  readonly sound?: string
  readonly data?: string
  readonly commands?: string
  readonly value?: string[]
  readonly fallback?: string[]
  readonly urgency?: string
  readonly ttl?: string
  readonly spread?: string
  readonly mode?: string
  readonly name?: string
  readonly idempotencyKey?: string
  readonly as?: string
  readonly language?: string
  readonly list?: string
  readonly review?: boolean
  readonly exact?: boolean
  readonly paused?: boolean
  readonly yes?: boolean
  readonly watch: boolean
}

export function sendCommand(program: Command, io: Io, done: Run): void {
  withWhen(program.command('send'))
    .description('Review a notification, send it, and follow it until every device has come to an end')
    .option(
      '--to <reference...>',
      'who: user:NAME, device:ID, token:TOKEN, topic:NAME or everyone; several may be given',
    )
    .option('--all <reference...>', 'only those that each of these names')
    .option('--none <reference...>', 'not those that one of these names')
    .option('--where <rule>', 'only those for which this condition holds, in CEL')
    .option('--platform <platform...>', 'only ios, android or web')
    .option('--file <file>', 'a notification in YAML or JSON; flags win over what it says')
    .option('--template <name>', 'a saved template, filled with --value')
    .option('--title <text>', 'the first line')
    .option('--subtitle <text>', 'a line of its own below the title')
    .option('--body <text>', 'the text below it')
    .option('--navigate <place>', 'where a tap leads: a path in the app, or an address')
    .option('--channel <channel>', 'the kind of notification that it is')
    .option('--tag <tag>', 'takes the place of an earlier one with the same tag')
    .option('--group <group>', 'lies together with others of this group')
    .option('--sound <name>', 'default, none, or a sound of the app by its name')
    .option('--data <json>', 'an object for the app')
    .option('--commands <json>', 'what the kit is told to do, with --mode wake: plans, cancel, withdraw')
    .option('--value <name=value...>', 'a value that the texts name')
    .option('--fallback <name=value...>', 'what stands in for a value that a person does not have')
    .option('--urgency <urgency>', 'very-low, low, normal or high')
    .option('--ttl <seconds>', 'how long it may wait for a device')
    .option('--spread <seconds>', 'send it evenly over so long')
    .option('--mode <mode>', 'show, or wake: the app is woken and nothing is shown')
    .option('--name <name>', 'a name of your own, by which it can be found and stopped')
    .option('--idempotency-key <key>', 'the same key again does not send again')
    .option('--review', 'only say what would happen')
    .option('--as <user>', 'with --review: what this person would get')
    .option('--language <language>', 'with --review: what readers of this language would get')
    .option('--exact', 'with --review: count every device, where a large target is estimated from a sample')
    .option('--list <reason>', 'with --review: name the devices that are left out for this reason')
    .option('--paused', 'let it wait, to be edited and resumed')
    .option('--yes', 'send without asking')
    .option('--no-watch', 'return as soon as it is accepted')
    .addHelpText(
      'after',
      `
On a terminal the review is shown and you are asked; elsewhere what goes to many wants --yes.

Example:
  $ zbell send --to user:ada --title "Kittiwake is 15 minutes late" --body "New departure 17:45 from berth 2."
  $ zbell send --to topic:route-4 --none user:ada --title "{vessel} is late" --value vessel=Kittiwake --review`,
    )
    .action(withContext<SendFlags, []>(io, done, send))
}

async function send(context: Context<SendFlags>): Promise<number> {
  const { client, app, flags, io, paint } = context
  const when = whenIn(flags, io.timeZone)
  const body = { ...requestOf(flags), ...(when ? { when } : {}) }
  if (when && !flags.json) await sayUnderstood(context, when)
  const params = { app }
  if (flags.review) {
    const query = {
      user: flags.as,
      language: flags.language,
      list: flags.list,
      exact: flags.exact ? ('true' as const) : undefined,
    }
    const review = await client.call('reviewNotification', { params, body, query })
    if (flags.json) printJson(io, review)
    else io.out(drawReview(review, paint, io))
    return review.faults.length > 0 ? exitCodes.invalid : exitCodes.done
  }
  if (!flags.yes && !(await mayGo(context, body))) return exitCodes.notAllowed
  const accepted = await client.call('sendNotification', {
    params,
    body,
    ...(flags.idempotencyKey === undefined ? {} : { headers: { 'idempotency-key': flags.idempotencyKey } }),
  })
  // What waits for its hour is not waited for here.
  if (!flags.watch || flags.paused || when) {
    io.out(flags.json ? `${JSON.stringify(accepted, null, 2)}\n` : `${accepted.id}\n`)
    return 0
  }
  if (!flags.json) io.out(`${paint.strong(accepted.id)}\n\n`)
  return watchToEnd(context, accepted.id)
}

/** Shows the review and asks, where somebody can be asked; to many it wants the number typed. */
async function mayGo(
  { client, app, io, paint, flags }: Context<SendFlags>,
  body: NotificationRequest,
): Promise<boolean> {
  const review = await client.call('reviewNotification', { params: { app }, body })
  const { askFrom } = await client.call('readSettings', { params: { app } })
  const devices = devicesOf(review)
  const isMany = devices >= askFrom
  if (!io.ask) {
    if (!isMany) return true
    throw new UsageError(
      `This would ring ${devices.toLocaleString('en')} devices, and nobody is here to ask; add --yes.`,
    )
  }
  if (!flags.json) io.err(drawReview(review, paint, io))
  if (review.faults.length > 0) return false
  const wanted = isMany ? String(devices) : 'y'
  const answer = await io.ask(
    isMany
      ? `Type the number of devices, ${wanted}, to send it: `
      : `Send it to ${devices} ${devices === 1 ? 'device' : 'devices'}? [y/N] `,
  )
  const goes =
    answer.trim().toLowerCase().replaceAll(',', '') === wanted || (!isMany && /^y(?:es)?$/i.test(answer.trim()))
  if (!goes) io.err('Not sent.\n')
  return goes
}

const devicesOf = ({ devices }: Review): number => devices.ios + devices.android + devices.web

/** What the file says, and what the flags say over it. @throws {UsageError} */
function requestOf(flags: SendFlags): NotificationRequest {
  const file = (flags.file === undefined ? {} : readObjectFile(flags.file)) as Partial<NotificationRequest>
  const isContent = flags.file !== undefined && !('content' in file) && !('to' in file)
  const { content: given, ...rest } = isContent ? { content: file as NotificationRequest['content'] } : file
  const { title, subtitle, body, navigate, channel, tag, group, sound } = flags
  const content = {
    ...given,
    ...present({ title, subtitle, body, navigate, channel, tag, group, sound }),
    ...(flags.data === undefined ? {} : { data: parseObject('--data', flags.data, '{"sailing": 12}') }),
    ...(flags.commands === undefined
      ? {}
      : { commands: parseObject('--commands', flags.commands, '{"cancel": ["last-boat"]}') }),
  }
  const target = present({
    any: flags.to,
    all: flags.all,
    none: flags.none,
    rule: flags.where,
    platforms: flags.platform,
  })
  const to = Object.keys(target).length > 0 ? target : rest.to
  if (to === undefined)
    throw new UsageError('Say who is meant: --to user:NAME, topic:NAME, segment:NAME or everyone, or --where RULE.')
  return {
    ...rest,
    to,
    ...(flags.template === undefined ? { content } : { template: flags.template }),
    ...present({
      urgency: flags.urgency,
      mode: flags.mode,
      name: flags.name,
      paused: flags.paused,
      ttlSeconds: secondsIn('--ttl', flags.ttl),
      spreadSeconds: secondsIn('--spread', flags.spread),
      values: pairs('--value', flags.value, rest.values),
      fallbacks: pairs('--fallback', flags.fallback, rest.fallbacks),
    }),
  } as NotificationRequest
}

/** `delay=15` is a number, `open=true` a boolean, all else text; quotes keep a number text: `pass="15"`. */
function pairs(flag: string, texts: readonly string[] | undefined, before: object | undefined): object | undefined {
  if (texts === undefined) return before
  const given = texts.map((text) => {
    const at = text.indexOf('=')
    if (at < 1) throw new UsageError(`${flag} wants name=value, not ${text.slice(0, 60)}.`)
    const said = text.slice(at + 1)
    const [, quoted] = /^"(.*)"$/s.exec(said) ?? []
    return [text.slice(0, at), quoted ?? valueOfText(said)]
  })
  return { ...before, ...Object.fromEntries(given) }
}

function parseObject(flag: string, text: string, example: string): Record<string, never> {
  try {
    return JSON.parse(text) as Record<string, never>
  } catch {
    throw new UsageError(`${flag} is not JSON: ${text.slice(0, 60)}; write an object, such as '${example}'.`)
  }
}
