import { isReceiptState } from '@zbell/core'
import type { Logger } from 'pino'
import type { Milestones } from './apps/index.ts'
import type { Closeable, Config, Metrics, Pace } from './base/index.ts'
import type { Database } from './database/index.ts'
import type { OnStep } from './deliveries/index.ts'
import { prepareAhead, type Signals, Worker, type WorkStore } from './engine/index.ts'
import type { GatewayRegistry } from './gateways/index.ts'
import type { IntakeParts } from './notifications/index.ts'
import { workStore } from './sending/index.ts'

/** What a process does: all of it, or a part (`--only`). */
export const does = ({ only }: Config, part: 'http' | 'worker' | 'clock'): boolean =>
  only === 'everything' || only === part

type EngineParts = {
  readonly config: Config
  readonly log: Logger
  readonly closeables: Closeable[]
  readonly database: Database
  readonly gateways: GatewayRegistry
  readonly metrics: Metrics
  readonly milestones: Milestones
  readonly pace: Pace
  readonly signals: Signals
}

/** The engine as the rest of the process sees it. */
export type Engine = {
  /** Whether something is being sent. */
  isSending(): boolean
  readonly forIntake: Pick<IntakeParts, 'leaseMs' | 'prepareSoon'>
}

/** Gives the engine its ports, and starts its worker where this process has one. */
export function openEngine({ config, log, closeables, database, gateways, ...parts }: EngineParts): Engine {
  const { metrics, milestones, pace, signals } = parts
  const leaseMs = config['engine.leaseMs']
  const stopMs = config['engine.stopMs']
  const giveUp = new AbortController()
  const onStep: OnStep = (platform, state, durationMs) => {
    if (state === 'accepted' || isReceiptState(state)) metrics.noteStep(platform, state, durationMs)
  }
  const store = counted(workStore(database, milestones, leaseMs, giveUp.signal, onStep), metrics, pace)
  const options = { atOnce: config['engine.blocks'], leaseMs, pollMs: config['engine.pollMs'] }
  const worker = new Worker(store, gateways, options, log, signals)
  if (does(config, 'worker')) worker.start()
  closeables.push({
    part: 'the worker',
    close: async () => {
      // What gateways answered last has to be stored as well, also when the database hesitates.
      const patience = setTimeout(() => giveUp.abort(), stopMs * 0.75)
      await worker.stop(stopMs * 0.5)
      clearTimeout(patience)
    },
  })
  return {
    isSending: () => worker.isBusy,
    forIntake: {
      leaseMs: does(config, 'worker') ? leaseMs : 0,
      // What stores it has to be on its way first, which it is with the next turn of the event loop.
      prepareSoon: (notification, devices) =>
        new Promise(setImmediate)
          .then(() => prepareAhead(notification, devices, gateways))
          .catch((error: unknown) => {
            // Sending meets the same again, and deals with it.
            log.debug({ err: error, notification: notification.id }, 'a notification could not be made ready ahead')
            return undefined
          }),
    },
  }
}

/** Outcomes are counted once they are stored. */
const counted = (store: WorkStore, metrics: Metrics, pace: Pace): WorkStore => ({
  ...store,
  async storeOutcomes(claim, outcomes) {
    const held = await store.storeOutcomes(claim, outcomes)
    if (held) {
      pace.note(outcomes.ended.length, Date.now())
      metrics.noteOutcomes(outcomes.ended)
    }
    return held
  },
})
