import type { Command } from 'commander'
import { called } from '../called.ts'
import { table } from '../drawing/table.ts'
import { exitCodes } from '../exit-codes.ts'
import type { Io } from '../io.ts'
import { type Context, printJson, type Run, withContext } from './context.ts'

type Verbs = {
  readonly io: Io
  readonly done: Run
  /** As the command line calls it: `trigger`. */
  readonly noun: string
  /** The name of one, for the examples. */
  readonly example: string
}

/** Adds `enable` and `disable`. @param says what each of them does */
export function switchVerbs(
  group: Command,
  { io, done, noun, example }: Verbs,
  says: { readonly on: string; readonly off: string },
  change: (context: Context<object>, name: string, enabled: boolean) => Promise<unknown>,
  also: (changed: unknown) => string = () => '',
): void {
  for (const [verb, enabled] of [
    ['enable', true],
    ['disable', false],
  ] as const)
    group
      .command(`${verb} <name>`)
      .description(enabled ? says.on : says.off)
      .addHelpText('after', `\nExample:\n  $ zbell ${noun} ${verb} ${example}`)
      .action(
        withContext<object, [string]>(io, done, async (context, name) => {
          const changed = await change(context, name, enabled)
          if (context.flags.json) printJson(context.io, changed)
          else context.io.out(`${name} is ${enabled ? `on.${also(changed)}` : 'off.'}\n`)
          return exitCodes.done
        }),
      )
}

/** Adds `delete`. @param says what it deletes */
export function deleteVerb(
  group: Command,
  { io, done, noun, example }: Verbs,
  says: string,
  remove: (context: Context<object>, name: string) => Promise<unknown>,
): void {
  group
    .command('delete <name>')
    .description(says)
    .addHelpText('after', `\nExample:\n  $ zbell ${noun} delete ${example}`)
    .action(
      withContext<object, [string]>(io, done, async (context, name) => {
        await remove(context, name)
        context.io.out(`${name} is gone.\n`)
        return exitCodes.done
      }),
    )
}

/** Adds `list`: all there are, as a table. @param says what it lists */
export function listVerb<T>(
  group: Command,
  { io, done, noun }: Omit<Verbs, 'example'>,
  says: string,
  {
    read,
    head,
    row,
    none,
  }: {
    readonly read: (context: Context<object>) => Promise<readonly T[]>
    readonly head: readonly string[]
    readonly row: (one: T, io: Io) => readonly string[]
    /** What is said when there is none yet. @param zbell the command as it was called */
    readonly none: (zbell: string) => string
  },
): void {
  group
    .command('list')
    .description(says)
    .addHelpText('after', `\nExample:\n  $ zbell ${noun} list`)
    .action(
      withContext<object, []>(io, done, async (context) => {
        const { flags, io: out, paint } = context
        const items = await read(context)
        if (flags.json) printJson(out, { items, next: null })
        else if (items.length === 0) out.out(`${none(called(out))}\n`)
        else
          out.out(
            table(
              head,
              items.map((one) => row(one, out)),
              paint.dim,
            ),
          )
        return exitCodes.done
      }),
    )
}
