import { setTimeout as wait } from 'node:timers/promises'
import type { Milestones } from '../apps/index.ts'
import { type Database, DatabaseUnavailable, isDuplicate } from '../database/index.ts'
import { type OnStep, storeOutcomes } from '../deliveries/index.ts'
import type { WorkStore } from '../engine/index.ts'
import { pausesOf, withdrawPage } from '../notifications/index.ts'
import { loadBlockDevices, readersValues, superseded } from '../people/index.ts'
import { countUnderCaps, policyOf, refund, wakeRejected } from '../policy/index.ts'
import { extend, FairQueue, release } from '../queue/index.ts'
import { claimNotificationWork } from './store/claim-notification-work.ts'
import { expandPage, type ReaderCursors } from './store/expand-page.ts'

const tryAgainAfterMs = 200

/**
 * Fills the engine's port with MariaDB.
 * @param giveUp ends the wait for a database that does not come back, when the process has to stop
 */
export const workStore = (
  database: Database,
  milestones: Milestones,
  leaseMs: number,
  giveUp: AbortSignal,
  onStep: OnStep = () => {},
  fair = new FairQueue(),
  looks: ReaderCursors = new Map(),
): WorkStore => ({
  claim: (held, least) => claimNotificationWork(database, { leaseMs, fair, held, least }),
  extend: (claim) => extend(database, claim, leaseMs),
  async release(claim, afterMs) {
    await release(database, claim, { afterMs })
  },
  expandPage: (claim, notification) => expandPage(database, claim, notification, leaseMs, looks),
  withdrawPage: (claim, after) => withdrawPage(database, claim, after, leaseMs),
  devices: (numbers) => loadBlockDevices(database, numbers),
  values: (userNos) => readersValues(database, userNos),
  superseded: (notification, tag, numbers) => superseded(database, notification, tag, numbers),
  pausesOf: (numbers) => pausesOf(database, numbers),
  policy: (notification, devices) => policyOf(database, notification, devices),
  countUnderCaps: (notification, caps, persons) =>
    countUnderCaps(database, notification, notification.no, caps, persons),
  refundPage: (claim, after) => refund(database, claim, after, leaseMs),
  wakeRejected: (of) => wakeRejected(database, of),
  async noteAccepted({ appNo, environment }, platform, rehearsal) {
    try {
      await milestones.note({ appNo, environment, platform, rehearsal, what: 'accepted' })
    } catch (error) {
      // The outcome itself is stored; the next one that is accepted makes this note.
      if (!(error instanceof DatabaseUnavailable)) throw error
    }
  },
  async storeOutcomes(claim, outcomes) {
    // What a gateway answered is known only here; while the database is away it is kept, not thrown away and asked again.
    for (let again = false; ; again = true) {
      try {
        return await storeOutcomes(database, claim, outcomes, leaseMs, { again, onStep })
      } catch (error) {
        // Some of it is stored already: the rest is still to be.
        if (isDuplicate(error, 'PRIMARY') && !again) continue
        if (!(error instanceof DatabaseUnavailable) || giveUp.aborted) throw error
        await wait(tryAgainAfterMs)
      }
    }
  },
})
