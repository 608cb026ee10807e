import { ProblemError } from '@zbell/contract/client'
import { Command, CommanderError } from 'commander'
import { accountCommands } from './commands/accounts.ts'
import { appCommands } from './commands/apps.ts'
import { calendarCommands } from './commands/calendar.ts'
import { channelCommands } from './commands/channels.ts'
import { credentialCommands } from './commands/credentials.ts'
import { deviceCommands } from './commands/devices.ts'
import { gatewayCommands } from './commands/gateways.ts'
import { handsetCommands } from './commands/handsets.ts'
import { healthCommands } from './commands/health.ts'
import { keyCommands } from './commands/keys.ts'
import { knowingCommands } from './commands/knowing.ts'
import { notificationCommands } from './commands/notifications.ts'
import { planCommands } from './commands/plans.ts'
import { policyCommands } from './commands/policy.ts'
import { scheduleCommands } from './commands/schedules.ts'
import { segmentCommands } from './commands/segments.ts'
import { sendCommand } from './commands/send.ts'
import { serviceCommands } from './commands/service.ts'
import { settingsCommands } from './commands/settings.ts'
import { setupCommand } from './commands/setup.ts'
import { sourceCommands } from './commands/sources.ts'
import { templateCommands } from './commands/templates.ts'
import { topicCommands } from './commands/topics.ts'
import { transferCommands } from './commands/transfer.ts'
import { triggerCommands } from './commands/triggers.ts'
import { userCommands } from './commands/users.ts'
import { vaultCommands } from './commands/vault.ts'
import { webhookCommands } from './commands/webhooks.ts'
import { exitCodes, sayFailure } from './exit-codes.ts'
import type { Io } from './io.ts'

/** Runs one command line. @returns the exit code; nothing deeper ends the process */
export async function main(argv: readonly string[], io: Io): Promise<number> {
  let code: number = exitCodes.done
  const done = (given: number) => {
    code = given
  }
  const program = new Command('zbell')
    .description('Ring the phones, tablets and browsers of your app’s users.')
    .version('0.1.0', '--version', 'print the version')
    .option('--url <address>', 'the service’s address (ZBELL_URL)')
    .option('--key <key>', 'a backend key (ZBELL_KEY)')
    .option('--app <name>', 'the app (ZBELL_APP)')
    .option('--environment <environment>', 'development or production; most keys bring their own (ZBELL_ENVIRONMENT)')
    .option('--profile <file>', 'a file with url, key and app (ZBELL_PROFILE; else the nearest .zbell.yaml)')
    .option('--json', 'print JSON')
    .helpOption('--help', 'explain a command')
    .showSuggestionAfterError()
    .exitOverride()
    .configureOutput({
      writeOut: io.out,
      writeErr: io.err,
      outputError: (text, write) => write(text.replace(/^error: /, 'zbell: ')),
    })
    .addHelpText(
      'after',
      '\nExit codes: 0 done, 1 an internal error, 2 wrong call, 3 service not reached, 4 not allowed, 5 not found,\n6 refused as it is, 7 try again later, 8 sent but nobody was reached.',
    )
  sendCommand(program, io, done)
  notificationCommands(program, io, done)
  templateCommands(program, io, done)
  scheduleCommands(program, io, done)
  segmentCommands(program, io, done)
  sourceCommands(program, io, done)
  webhookCommands(program, io, done)
  triggerCommands(program, io, done)
  channelCommands(program, io, done)
  policyCommands(program, io, done)
  planCommands(program, io, done)
  calendarCommands(program, io, done)
  knowingCommands(program, io, done)
  healthCommands(program, io, done)
  credentialCommands(program, io, done)
  deviceCommands(program, io, done)
  gatewayCommands(program, io, done)
  handsetCommands(program, io, done)
  setupCommand(program, io, done)
  userCommands(program, io, done)
  topicCommands(program, io, done)
  transferCommands(program, io, done)
  appCommands(program, io, done)
  settingsCommands(program, io, done)
  keyCommands(program, io, done)
  accountCommands(program, io, done)
  vaultCommands(program, io, done)
  serviceCommands(program, io, done)
  for (const command of [program, ...program.commands, ...program.commands.flatMap((group) => [...group.commands])]) {
    command.exitOverride().configureOutput(program.configureOutput()).helpOption('--help', 'explain this command')
  }
  try {
    await program.parseAsync([...argv], { from: 'user' })
    return code
  } catch (error) {
    if (error instanceof CommanderError) return error.exitCode === 0 ? exitCodes.done : exitCodes.usage
    const failure = sayFailure(error)
    if (error instanceof ProblemError && argv.includes('--json')) io.out(`${JSON.stringify(error.problem, null, 2)}\n`)
    io.err(`zbell: ${failure.text}\n`)
    return failure.code
  }
}
