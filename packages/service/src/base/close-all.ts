import type { Logger } from 'pino'

/** A part of the service that runs, and how it is closed. */
export type Closeable = {
  readonly part: string
  /** It ends within bounds of its own, and is waited for: it must not be left behind. */
  readonly isWaitedFor?: true
  close(): Promise<void> | void
}

/**
 * Closes parts in reverse order of opening. Each is told to close, and waited for until the time is over: one that hangs
 * holds up neither the others nor whoever waits for the end.
 * @param withinMs for all of them together
 * @throws {AggregateError} with the failures of all
 */
export async function closeAll(closeables: readonly Closeable[], withinMs: number, log: Logger): Promise<void> {
  const failures: unknown[] = []
  let isOver = false
  let timer: NodeJS.Timeout | undefined
  const over = new Promise<void>((done) => {
    timer = setTimeout(() => {
      isOver = true
      done()
    }, withinMs)
  })
  for (const { part, isWaitedFor, close } of [...closeables].reverse()) {
    const closing = Promise.resolve().then(close)
    let closed = false
    const heard = closing.then(
      () => {
        closed = true
      },
      (error: unknown) => {
        closed = true
        failures.push(error)
      },
    )
    await (isWaitedFor ? heard : Promise.race([heard, over]))
    if (isOver && !closed) log.warn({ part, withinMs }, 'a part did not close in time and is left behind')
  }
  clearTimeout(timer)
  if (failures.length > 0) throw new AggregateError(failures, 'the service did not close cleanly')
}
