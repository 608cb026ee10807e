import type { Command } from 'commander'
import { type Connection, type ConnectionFlags, connect } from '../connection.ts'
import { type Paint, paint } from '../drawing/paint.ts'
import type { Io } from '../io.ts'

export type Flags = ConnectionFlags & { readonly json?: boolean }

/** What every command starts from. */
export type Context<F> = Connection & { readonly flags: F & Flags; readonly io: Io; readonly paint: Paint }

/** Runs a command with its connection made; a command answers its exit code. */
export type Run = (code: number) => void

/** @param needs `app: false` for what belongs to no app */
export const withContext =
  <F, A extends unknown[]>(
    io: Io,
    done: Run,
    act: (context: Context<F>, ...args: A) => Promise<number>,
    needs: { readonly app: boolean } = { app: true },
  ) =>
  async (...given: unknown[]): Promise<void> => {
    const command = given.at(-1) as Command
    const flags = command.optsWithGlobals<F & Flags>()
    const args = given.slice(0, -2) as A
    const { app, environment, profile } = flags
    const said = Object.entries({ app, environment, profile }).flatMap(([name, value]) =>
      value === undefined ? [] : [`--${name}`, value],
    )
    const connection = connect(needs.app ? flags : { app: '-', ...flags }, io)
    done(await act({ ...connection, flags, io: { ...io, said }, paint: paint(io.colour) }, ...args))
  }

/** What a text may not do to a terminal, JSON says in another way: it stays the same value. */
export const printJson = (io: Io, value: unknown): void => io.out(`${escaped(JSON.stringify(value, null, 2))}\n`)

const escaped = (json: string): string =>
  json.replace(
    /[\u007f-\u009f\u200e\u200f\u202a-\u202e\u2066-\u2069]/g,
    (sign) => `\\u${sign.charCodeAt(0).toString(16).padStart(4, '0')}`,
  )
