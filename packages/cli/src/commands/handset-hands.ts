import { watch } from 'node:fs'
import type { HandsetAct, HandsetChange } from '@zbell/contract'
import { exitCodes, sayFailure, UsageError } from '../exit-codes.ts'
import type { Context } from './context.ts'
import { readObjectFile } from './notification-file.ts'

export type ChangeFlags = {
  readonly appState?: 'front' | 'behind' | 'closed'
  readonly locked?: string
  readonly online?: string
  readonly doNotDisturb?: string
  readonly lowPower?: string
  readonly inFront?: 'show' | 'replace' | 'drop'
  readonly permission?: 'granted' | 'denied'
  readonly muted?: string
  readonly user?: string
  readonly clock?: string
  readonly timeZone?: string
  readonly place?: string
  readonly block?: string[]
}

/** What the flags of `${called(io)} handset set` say. @throws {UsageError} */
export function changeOf(flags: ChangeFlags): HandsetChange {
  const { appState, inFront, permission, timeZone } = flags
  const switches = (['locked', 'online', 'doNotDisturb', 'lowPower', 'muted'] as const).map((name) => [
    name,
    yesOrNo(name, flags[name]),
  ])
  const change = {
    appState,
    inFront,
    permission,
    timeZone,
    ...Object.fromEntries(switches),
    user: flags.user === 'none' ? null : flags.user,
    clockOffsetSeconds: flags.clock === undefined ? undefined : wholeSeconds(flags.clock),
    blockedChannels: flags.block?.includes('none') ? [] : flags.block,
    place: flags.place === undefined ? undefined : placeOf(flags.place),
  }
  const given = Object.entries(change).filter(([, value]) => value !== undefined)
  if (given.length === 0) throw new UsageError('nothing to change was given; --help lists what can be.')
  return Object.fromEntries(given) as HandsetChange
}

function yesOrNo(name: string, text: string | undefined): boolean | undefined {
  if (text === undefined) return undefined
  if (text !== 'yes' && text !== 'no')
    throw new UsageError(
      `--${name.replace(/[A-Z]/g, (letter) => `-${letter.toLowerCase()}`)} wants yes or no, not ${text}.`,
    )
  return text === 'yes'
}

function wholeSeconds(text: string): number {
  if (!/^[+-]?\d{1,8}$/.test(text)) throw new UsageError(`--clock wants whole seconds, not ${text}.`)
  return Number(text)
}

function placeOf(text: string): HandsetChange['place'] {
  if (text === 'none') return null
  const [longitude, latitude, ...more] = text.split(',').map(Number)
  if (more.length > 0 || !Number.isFinite(longitude) || !Number.isFinite(latitude))
    throw new UsageError(`--place wants longitude,latitude in degrees, such as 5.32,60.39, not ${text}.`)
  return { longitude: longitude!, latitude: latitude! }
}

type Content = Extract<HandsetAct, { do: 'ring' }>['content']

/** Rings a file, and with `--watch` again whenever it is saved, until the command is stopped. */
export async function ringFile(
  { flags, io }: Context<{ watch?: boolean }>,
  file: string,
  ring: (content: Content) => Promise<number>,
): Promise<number> {
  const code = await ring(contentOf(file))
  if (!flags.watch) return code
  io.err(`Rings again whenever ${file} is saved; Ctrl-C ends it.\n`)
  let soon: NodeJS.Timeout | undefined
  const watcher = watch(file)
  watcher.on('change', () => {
    clearTimeout(soon)
    // Editors save in several steps; the last one counts. A fault in the file is said, and the next save tried.
    soon = setTimeout(() => {
      ringAgain().catch((error: unknown) => io.err(`zbell: ${sayFailure(error).text}\n`))
    }, 150)
  })
  const ringAgain = async () => ring(contentOf(file))
  await new Promise<void>((done) => io.stop.addEventListener('abort', () => done()))
  watcher.close()
  clearTimeout(soon)
  return exitCodes.done
}

/** A notification file: its `content`, or the content itself. */
function contentOf(file: string): Content {
  const read = readObjectFile(file)
  return ('content' in read ? read.content : read) as Content
}
