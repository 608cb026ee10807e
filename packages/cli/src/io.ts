/** What a command sees of the outside, so that it can be run in a test as in a terminal. */
export type Io = {
  readonly env: Readonly<Record<string, string | undefined>>
  readonly cwd: string
  /** What was said before the command and holds for the next one, too: `--app gull-air`. */
  readonly said?: readonly string[]
  /** Results. */
  out(text: string): void
  /** When whoever reads the results has caught up; asked between the parts of something long. */
  caughtUp?(): Promise<void>
  /** Progress and refusals. */
  err(text: string): void
  readonly colour: boolean
  /** Somebody reads the results on a terminal, where a long line breaks its table; a program wants all of it. */
  readonly terminal?: boolean
  readonly locale: string
  readonly timeZone: string
  readonly stop: AbortSignal
  /** Asks on the terminal without echo; there is none when nobody sits there. */
  askSecret?(prompt: string): Promise<string>
  /** Asks for a line, as it is typed; there is none when nobody sits there. */
  ask?(prompt: string): Promise<string>
}
