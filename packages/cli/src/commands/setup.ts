import type { Setup } from '@zbell/contract'
import { ago, refusalWords } from '@zbell/contract/words'
import type { Command } from 'commander'
import { called } from '../called.ts'
import type { Paint } from '../drawing/paint.ts'
import { pad, safe } from '../drawing/text.ts'
import { exitCodes } from '../exit-codes.ts'
import type { Io } from '../io.ts'
import { type Context, printJson, type Run, withContext } from './context.ts'

type Platform = Setup['platforms'][number]
type Step = Platform['steps'][number]

export function setupCommand(program: Command, io: Io, done: Run): void {
  program
    .command('setup')
    .description('How far each platform is on its way from nothing to a ring, and what is next')
    .addHelpText('after', '\nExample:\n  $ zbell setup')
    .action(withContext<object, []>(io, done, show))
}

async function show({ client, app, flags, io, paint }: Context<object>): Promise<number> {
  const setup = await client.call('readSetup', { params: { app } })
  if (flags.json) {
    printJson(io, setup)
    return exitCodes.done
  }
  io.out(`${paint.strong(setup.app)} in ${setup.environment}\n`)
  for (const platform of setup.platforms) io.out(`\n${drawPlatform(platform, setup, io, paint)}`)
  const refused = refusalWords(setup.userRefusals)
  if (refused) io.out(`\n${refused}\n`)
  if (setup.handsets && setup.platforms.some(({ ready }) => !ready))
    io.out(paint.dim(`\nNo credential and no phone yet? Rehearse: ${called(io)} handset new --platform ios\n`))
  return exitCodes.done
}

function drawPlatform(platform: Platform, setup: Setup, io: Io, paint: Paint): string {
  const done = platform.steps.filter(({ state }) => state === 'done').length
  const head = platform.ready ? paint.good('ready') : `${done} of ${platform.steps.length}`
  const lines = platform.steps.map((step) => {
    const when = step.at === null ? '' : paint.dim(`  ${ago(step.at, Date.now())}`)
    const line = `  ${shape(step, paint)} ${pad(step.step, 11)} ${safe(step.detail)}${when}\n`
    // What is next is said in full; the rest waits its turn.
    if (step.step !== platform.next) return line
    const command = step.action && commands[step.action](platform, setup, io)
    return `${line}    ${paint.strong('next')}${' '.repeat(8)}${step.remedy ?? ''}\n${command ? `${' '.repeat(16)}${paint.strong(command)}\n` : ''}`
  })
  return `${paint.strong(pad(platform.platform, 8))}  ${head}\n${lines.join('')}`
}

function shape({ state }: Step, paint: Paint): string {
  switch (state) {
    case 'done':
      return paint.good('●')
    case 'rehearsed':
      return paint.wait('◑')
    case 'trouble':
      return paint.bad('✕')
    case 'open':
      return paint.dim('○')
    default:
      return state satisfies never
  }
}

/** The command that does what a step asks for; where it takes more than a command, there is none. */
const commands: Record<
  NonNullable<Step['action']>,
  (platform: Platform, setup: Setup, io: Io) => string | undefined
> = {
  'give-identifier': ({ platform }, _, io) =>
    `${called(io)} app change --${platform} ${{ ios: 'example.ferries', android: 'example.ferries', web: 'https://ferries.example' }[platform]}`,
  'hand-in-credential': ({ platform }, _, io) =>
    platform === 'web'
      ? `${called(io)} credential make --subject mailto:…`
      : `${called(io)} credential add FILE --platform ${platform}`,
  'save-profile': ({ platform }, _, io) =>
    `${called(io)} gateway new --kind ${platform === 'ios' ? 'signed-token' : 'grant'} > ${platform}.yaml`,
  'check-credential': (_, __, io) => `${called(io)} credential check`,
  'make-app-key': (_, { environment }, io) =>
    `${called(io)} key new "In the app" --kind app --environment ${environment}`,
  'register-device': () => undefined,
  send: ({ device }, _, io) =>
    device === null ? undefined : `${called(io)} send --to device:${device} --title "A first ring"`,
  'look-at-device': () => undefined,
}
