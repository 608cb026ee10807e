import { setTimeout as wait } from 'node:timers/promises'
import { DatabaseBusy, driverCode, translateError, worthAnotherTry } from './errors.ts'

/** How long a transaction that loses against others is run again, and how long it rests in between. */
export type RetryOptions = { readonly withinMs: number; readonly firstMs: number; readonly maxMs: number }

export const retryDefaults: RetryOptions = Object.freeze({ withinMs: 10_000, firstMs: 2, maxMs: 250 })

/**
 * Does it again for as long as it loses against other transactions, within bounds; with pauses that grow and differ by
 * chance, since those that come back together lose together.
 * @throws {DatabaseBusy} when that lasts for too long: nothing is stored, and a later try may go through
 */
export async function withRetry<T>(
  work: () => Promise<T>,
  given: RetryOptions,
  isWorthIt = worthAnotherTry,
): Promise<T> {
  const giveUpMs = performance.now() + given.withinMs
  for (let tries = 0; ; tries++) {
    try {
      return await work()
    } catch (error) {
      if (!isWorthIt(error)) throw translateError(error)
      const pauseMs = Math.min(given.firstMs * 2 ** tries, given.maxMs) * (0.5 + Math.random() / 2)
      if (performance.now() + pauseMs > giveUpMs)
        throw new DatabaseBusy(
          `other transactions kept winning (${driverCode(error)}, ${tries + 1} tries)`,
          String(driverCode(error)),
        )
      await wait(pauseMs)
    }
  }
}
