import type { Command } from 'commander'
import { type ConnectionFlags, connect } from '../connection.ts'
import { exitCodes } from '../exit-codes.ts'
import type { Io } from '../io.ts'
import { printJson, type Run } from './context.ts'

export function vaultCommands(program: Command, io: Io, done: Run): void {
  program
    .command('vault')
    .description('Manage stored secrets; with the operator’s key')
    .command('rewrap')
    .description('Put all stored secrets under a new master key, while the service runs')
    .addHelpText(
      'after',
      '\nExample:\n  $ ZBELL_KEY=$(cat zbell-data/operator.key) zbell vault rewrap --url http://127.0.0.1:7420',
    )
    .action(async (_flags: object, command: Command) => {
      const flags = command.optsWithGlobals<ConnectionFlags & { json?: boolean }>()
      // The vault belongs to no app, but a connection names one.
      const { client } = connect({ app: '-', ...flags }, io)
      const outcome = await client.call('rewrapVault', {})
      const { rewrapped, unopened } = outcome
      if (flags.json) printJson(io, outcome)
      else {
        io.out(`${rewrapped} stored secrets are under a new master key.\n`)
        if (unopened > 0) io.err(`${unopened} could be opened by none, and stay as they are: add them again.\n`)
      }
      done(exitCodes.done)
    })
}
