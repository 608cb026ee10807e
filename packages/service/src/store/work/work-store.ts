import { setTimeout as wait } from 'node:timers/promises'
import type { WorkStore } from '../../engine/ports.ts'
import type { Milestones } from '../apps/milestones.ts'
import type { Database } from '../database.ts'
import { loadBlockDevices, readersValues, superseded } from '../devices/load-block-devices.ts'
import { DatabaseUnavailable } from '../errors.ts'
import type { OnStep } from '../notifications/day-counts.ts'
import { holdsOf } from '../notifications/hold.ts'
import { findNotificationByNo } from '../notifications/read-notifications.ts'
import { withdrawPage } from '../notifications/withdraw-notification.ts'
import { claimWork, extendLease, releaseWork } from './claim-work.ts'
import { expandPage, type Looks } from './expand-page.ts'
import { storeOutcomes } from './store-outcomes.ts'
import { Turns } from './turns.ts'

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
  turns = new Turns(),
  looks: Looks = new Map(),
): WorkStore => ({
  claim: (held, least) => claimWork(database, leaseMs, turns, held, least),
  extend: (claim) => extendLease(database, claim, leaseMs),
  release: (claim, afterMs) => releaseWork(database, claim, afterMs),
  notification: (no) => findNotificationByNo(database, no),
  expandPage: (claim, notification) => expandPage(database, claim, notification, leaseMs, looks),
  withdrawPage: (claim, after) => withdrawPage(database, claim, after, leaseMs),
  devices: (numbers) => loadBlockDevices(database, numbers),
  values: (userNos) => readersValues(database, userNos),
  superseded: (notification, tag, numbers) => superseded(database, notification, tag, numbers),
  holds: (numbers) => holdsOf(database, numbers),
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
        if (!(error instanceof DatabaseUnavailable) || giveUp.aborted) throw error
        await wait(tryAgainAfterMs)
      }
    }
  },
})
