import type { Logger } from 'pino'
import { Poller } from '../base/index.ts'
import type { Triggers } from './triggers.ts'

/** So often is asked whether something waits for a trigger. */
const everyMs = 250

/**
 * Lets triggers fire: for what waits, and for firings that have waited, beside each other, since these may have to ask a source
 * again that takes its time. Any number of processes may have one: each event fires once.
 */
export const triggerClocks = (triggers: Triggers, log: Logger): Poller[] => [
  new Poller({ name: 'triggers', everyMs, log, poll: async () => (await triggers.fireWaiting()) > 0 }),
  new Poller({ name: 'due firings', everyMs, log, poll: async () => (await triggers.fireDue()) > 0 }),
]
