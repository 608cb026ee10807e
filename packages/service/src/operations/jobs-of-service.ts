import type { Logger } from 'pino'
import { forgetSessions } from '../accounts/index.ts'
import { forgetKeys } from '../api/index.ts'
import { type Database, removeLeftRows } from '../database/index.ts'
import { forgetDays, pruneDeliveries } from '../deliveries/index.ts'
import { forgetDevices, forgetFormerDevices, forgetProofs } from '../devices/index.ts'
import { type CredentialChecks, forgetRecordings } from '../gateways/index.ts'
import { forgetNotifications } from '../notifications/index.ts'
import { countMembers, forgetOccurrences, forgetTopics } from '../people/index.ts'
import { allStops, forgetCapPages, unparkForgotten } from '../policy/index.ts'
import { countUnheard, forgetRuns } from '../schedules/index.ts'
import { forgetFirings } from '../triggers/index.ts'
import { boundWebhooks, dropOverdue, forgetLog, type Waiting } from '../webhooks/index.ts'
import type { BackgroundJob } from './background-jobs.ts'
import { forgetSilent } from './store/processes.ts'

/** Schedules that nobody hears, and apps that are stopped. */
export type Measured = {
  readonly unheard: Awaited<ReturnType<typeof countUnheard>>
  readonly stopped: Awaited<ReturnType<typeof allStops>>
}

/** Two years and a month: this one can be held against the last. */
const dayCountsKept = 760
/** A recording of a gateway is kept for so long after its end. */
const recordingHours = 24

/** What is done in the background, and how often. A new one is a line here. */
export function jobsOfService(given: {
  readonly database: Database
  readonly checks: CredentialChecks
  /** Days after which deliveries are pruned; 0 for never. */
  readonly deliveryDays: number
  /** Days for which notifications are kept; 0 for ever. */
  readonly notificationDays: number
  /** Days for which occurrences are kept, and retired devices; 0 for ever. */
  readonly occurrenceDays: number
  readonly retiredDeviceDays: number
  /** Days for which the log of webhooks is kept. */
  readonly webhookLogDays: number
  /** Events that may wait for one webhook. */
  readonly mostWaiting: number
  readonly log: Logger
  /** Hears what is to be known of schedules and stops, for those who watch. */
  readonly onMeasured: (measured: Measured) => void
  /** Hears how many events wait for which webhook. */
  readonly onWaiting: (waiting: readonly Waiting[]) => void
}): BackgroundJob[] {
  const { database, checks, deliveryDays, log, onMeasured } = given
  const prune = async (mayGoOn: () => boolean) => {
    const notifications = await pruneDeliveries(database, deliveryDays, mayGoOn)
    if (notifications > 0) log.info({ notifications }, 'old deliveries were pruned to their totals')
  }
  return [
    { name: 'count-topics', everySeconds: 60, run: async (mayGoOn) => void (await countMembers(database, mayGoOn)) },
    {
      name: 'measure-schedules',
      everySeconds: 60,
      run: async () => onMeasured({ unheard: await countUnheard(database), stopped: await allStops(database) }),
    },
    { name: 'unpark-forgotten', everySeconds: 30, run: () => unparkForgotten(database) },
    { name: 'bound-webhooks', everySeconds: 20, run: (mayGoOn) => boundWebhooks(given, mayGoOn) },
    { name: 'drop-overdue-events', everySeconds: 3_600, run: (mayGoOn) => dropOverdue(database, mayGoOn) },
    {
      name: 'forget-webhook-log',
      everySeconds: 3_600,
      run: (mayGoOn) => forgetLog(database, given.webhookLogDays, mayGoOn),
    },
    { name: 'check-credentials', everySeconds: 60, run: (mayGoOn) => checks.checkDue(mayGoOn) },
    { name: 'announce-expiry', everySeconds: 600, run: () => checks.announce(new Date()) },
    { name: 'forget-processes', everySeconds: 600, run: async () => void (await forgetSilent(database)) },
    { name: 'forget-caps', everySeconds: 3_600, run: (mayGoOn) => forgetCapPages(database, mayGoOn) },
    { name: 'forget-recordings', everySeconds: 600, run: () => forgetRecordings(database, recordingHours) },
    { name: 'forget-request-keys', everySeconds: 600, run: (mayGoOn) => forgetKeys(database, mayGoOn) },
    { name: 'forget-proofs', everySeconds: 600, run: async () => void (await forgetProofs(database)) },
    { name: 'forget-topics', everySeconds: 3_600, run: () => forgetTopics(database) },
    { name: 'forget-sessions', everySeconds: 3_600, run: async () => void (await forgetSessions(database)) },
    { name: 'forget-days', everySeconds: 3_600, run: async () => void (await forgetDays(database, dayCountsKept)) },
    { name: 'remove-deleted', everySeconds: 20, run: (mayGoOn) => removeLeftRows(database, mayGoOn) },
    // Only what has been pruned: where deliveries are kept for ever, so are their notifications.
    ...(given.notificationDays === 0 || deliveryDays === 0
      ? []
      : [
          {
            name: 'forget-notifications',
            everySeconds: 600,
            run: (mayGoOn: () => boolean) =>
              forgetNotifications(database, Math.max(given.notificationDays, deliveryDays), mayGoOn),
          },
        ]),
    ...(given.occurrenceDays === 0
      ? []
      : [
          {
            name: 'forget-occurrences',
            everySeconds: 3_600,
            run: (mayGoOn: () => boolean) => forgetOccurrences(database, given.occurrenceDays, mayGoOn),
          },
        ]),
    ...(given.retiredDeviceDays === 0
      ? []
      : [
          {
            name: 'forget-devices',
            everySeconds: 3_600,
            run: (mayGoOn: () => boolean) => forgetDevices(database, given.retiredDeviceDays, mayGoOn),
          },
        ]),
    ...(deliveryDays === 0
      ? []
      : [
          { name: 'prune-deliveries', everySeconds: 60, run: prune },
          {
            name: 'forget-firings',
            everySeconds: 3_600,
            run: (mayGoOn: () => boolean) => forgetFirings(database, deliveryDays, mayGoOn),
          },
          {
            name: 'forget-former-devices',
            everySeconds: 3_600,
            run: (mayGoOn: () => boolean) => forgetFormerDevices(database, deliveryDays, mayGoOn),
          },
          {
            name: 'forget-runs',
            everySeconds: 3_600,
            run: async (mayGoOn: () => boolean) => void (await forgetRuns(database, deliveryDays, mayGoOn)),
          },
        ]),
  ]
}
