import type { Logger } from 'pino'
import { Looks } from '../database/index.ts'
import type { Triggers } from './triggers.ts'

/** So often it is looked whether something waits for a trigger. */
const everyMs = 250

/**
 * Lets triggers fire: for what waits, and for firings that have waited, beside each other, since these may have to ask a source
 * again that takes its time. Any number of processes may have one: each event fires once.
 */
export function triggerClocks(triggers: Triggers, log: Logger): Looks[] {
  const clock = (what: string, fire: () => Promise<number>): Looks => {
    const looks: Looks = new Looks({
      what,
      everyMs,
      log,
      look: async () => {
        while (!looks.isClosed && (await fire()) > 0);
      },
    })
    return looks
  }
  return [clock('triggers', () => triggers.fireWaiting()), clock('firings that waited', () => triggers.fireDue())]
}
