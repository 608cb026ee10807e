import type { Logger } from 'pino'
import { pruneSessions } from '../accounts/index.ts'
import { pruneKeys } from '../api/index.ts'
import { type Database, removeLeftRows } from '../database/index.ts'
import { pruneDays, pruneDeliveries } from '../deliveries/index.ts'
import { pruneDevices, pruneFormerDevices, pruneProofs, pruneRefusals } from '../devices/index.ts'
import { type CredentialChecks, pruneRecordings } from '../gateways/index.ts'
import { pruneNotifications } from '../notifications/index.ts'
import { countMembers, pruneOccurrences, pruneTopics } from '../people/index.ts'
import { allStops, pruneCapPages, unparkForgotten } from '../policy/index.ts'
import { countUnheard, pruneRuns } from '../schedules/index.ts'
import { pruneFirings } from '../triggers/index.ts'
import { boundWebhooks, type OutboxBacklog, pruneLog, pruneOverdue } from '../webhooks/index.ts'
import type { BackgroundJob } from './background-jobs.ts'
import { pruneSilent } from './store/processes.ts'

/** Schedules that nobody hears, and apps that are stopped. */
export type Measured = {
  readonly unheard: Awaited<ReturnType<typeof countUnheard>>
  readonly stopped: Awaited<ReturnType<typeof allStops>>
}

/** Two years and a month: this one can be held against the last. */
const dayCountsKept = 760
/** A recording of a gateway is kept for so long after its end. */
const recordingHours = 24
/** What is counted of refused users is of use while somebody looks for a fault. */
const refusalDays = 30

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
  readonly maxWaiting: number
  readonly log: Logger
  /** Called with what is to be known of schedules and stops, for those who watch. */
  readonly onMeasured: (measured: Measured) => void
  /** Called with how many events wait for which webhook. */
  readonly onWaiting: (waiting: readonly OutboxBacklog[]) => void
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
    { name: 'drop-overdue-events', everySeconds: 3_600, run: (mayGoOn) => pruneOverdue(database, mayGoOn) },
    {
      name: 'forget-webhook-log',
      everySeconds: 3_600,
      run: (mayGoOn) => pruneLog(database, given.webhookLogDays, mayGoOn),
    },
    { name: 'check-credentials', everySeconds: 60, run: (mayGoOn) => checks.checkDue(mayGoOn) },
    { name: 'announce-expiry', everySeconds: 600, run: () => checks.announce(new Date()) },
    { name: 'forget-processes', everySeconds: 600, run: async () => void (await pruneSilent(database)) },
    { name: 'forget-caps', everySeconds: 3_600, run: (mayGoOn) => pruneCapPages(database, mayGoOn) },
    { name: 'forget-recordings', everySeconds: 600, run: () => pruneRecordings(database, recordingHours) },
    { name: 'forget-request-keys', everySeconds: 600, run: (mayGoOn) => pruneKeys(database, mayGoOn) },
    { name: 'forget-proofs', everySeconds: 600, run: async () => void (await pruneProofs(database)) },
    { name: 'forget-topics', everySeconds: 3_600, run: () => pruneTopics(database) },
    { name: 'forget-sessions', everySeconds: 3_600, run: async () => void (await pruneSessions(database)) },
    {
      name: 'forget-days',
      everySeconds: 3_600,
      run: async () => {
        await pruneDays(database, dayCountsKept)
        await pruneRefusals(database, refusalDays)
      },
    },
    { name: 'remove-deleted', everySeconds: 20, run: (mayGoOn) => removeLeftRows(database, mayGoOn) },
    // Only what has been pruned: where deliveries are kept for ever, so are their notifications.
    ...(given.notificationDays === 0 || deliveryDays === 0
      ? []
      : [
          {
            name: 'forget-notifications',
            everySeconds: 600,
            run: (mayGoOn: () => boolean) =>
              pruneNotifications(database, Math.max(given.notificationDays, deliveryDays), mayGoOn),
          },
        ]),
    ...(given.occurrenceDays === 0
      ? []
      : [
          {
            name: 'forget-occurrences',
            everySeconds: 3_600,
            run: (mayGoOn: () => boolean) => pruneOccurrences(database, given.occurrenceDays, mayGoOn),
          },
        ]),
    ...(given.retiredDeviceDays === 0
      ? []
      : [
          {
            name: 'forget-devices',
            everySeconds: 3_600,
            run: (mayGoOn: () => boolean) => pruneDevices(database, given.retiredDeviceDays, mayGoOn),
          },
        ]),
    ...(deliveryDays === 0
      ? []
      : [
          { name: 'prune-deliveries', everySeconds: 60, run: prune },
          {
            name: 'forget-firings',
            everySeconds: 3_600,
            run: (mayGoOn: () => boolean) => pruneFirings(database, deliveryDays, mayGoOn),
          },
          {
            name: 'forget-former-devices',
            everySeconds: 3_600,
            run: (mayGoOn: () => boolean) => pruneFormerDevices(database, deliveryDays, mayGoOn),
          },
          {
            name: 'forget-runs',
            everySeconds: 3_600,
            run: async (mayGoOn: () => boolean) => void (await pruneRuns(database, deliveryDays, mayGoOn)),
          },
        ]),
  ]
}
