import type { Logger } from 'pino'
import { Looks } from '../scheduler/looks.ts'
import type { Triggers } from './triggers.ts'

/** So often it is looked whether something waits for a trigger. */
const everyMs = 250

/** Lets triggers fire. Any number of processes may have one: each event fires once. */
export function triggerClock(triggers: Triggers, log: Logger): Looks {
  const looks: Looks = new Looks({
    what: 'triggers',
    everyMs,
    log,
    look: async () => {
      while (!looks.isClosed && (await triggers.fireWaiting()) + (await triggers.fireDue()) > 0);
    },
  })
  return looks
}
