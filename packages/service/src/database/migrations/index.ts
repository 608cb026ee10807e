import { start } from './0001-start.ts'
import { credentials } from './0002-credentials.ts'
import { checks } from './0003-checks.ts'
import { apps } from './0004-apps.ts'
import { people } from './0005-people.ts'
import { presentation } from './0006-presentation.ts'
import { version } from './0007-version.ts'
import { sending } from './0008-sending.ts'
import { knowing } from './0009-knowing.ts'
import { jobs } from './0010-jobs.ts'
import { lists } from './0011-lists.ts'
import { topicCounts } from './0012-topic-counts.ts'
import { queue } from './0013-queue.ts'
import { names } from './0014-names.ts'
import { durations } from './0015-durations.ts'
import { rules } from './0016-rules.ts'
import { schedules } from './0017-schedules.ts'
import { restraint } from './0018-restraint.ts'
import { triggers } from './0019-triggers.ts'
import { sources } from './0020-sources.ts'
import { firingsByAge } from './0021-firings-by-age.ts'
import { webhooks } from './0022-webhooks.ts'
import { gateways } from './0023-gateways.ts'
import { leases } from './0024-leases.ts'
import { secretsOfDevices } from './0025-secrets-of-devices.ts'
import { bounds } from './0026-bounds.ts'
import { knownBrowsers } from './0027-known-browsers.ts'
import { reporters } from './0028-reporters.ts'
import { dueOfTrigger } from './0029-due-of-trigger.ts'
import { unmatched } from './0030-unmatched.ts'
import { origins } from './0031-origins.ts'
import { removals } from './0032-removals.ts'
import { formerDevices } from './0033-former-devices.ts'
import { requestKeys } from './0034-request-keys.ts'

export type Migration = { readonly no: number; readonly name: string; readonly statements: readonly string[] }

/** Numbered, forward only: a migration that has shipped is never changed. */
export const migrations: readonly Migration[] = [
  { no: 1, name: 'start', statements: start },
  { no: 2, name: 'credentials', statements: credentials },
  { no: 3, name: 'checks', statements: checks },
  { no: 4, name: 'apps', statements: apps },
  { no: 5, name: 'people', statements: people },
  { no: 6, name: 'presentation', statements: presentation },
  { no: 7, name: 'version', statements: version },
  { no: 8, name: 'sending', statements: sending },
  { no: 9, name: 'knowing', statements: knowing },
  { no: 10, name: 'jobs', statements: jobs },
  { no: 11, name: 'lists', statements: lists },
  { no: 12, name: 'topic-counts', statements: topicCounts },
  { no: 13, name: 'queue', statements: queue },
  { no: 14, name: 'names', statements: names },
  { no: 15, name: 'durations', statements: durations },
  { no: 16, name: 'rules', statements: rules },
  { no: 17, name: 'schedules', statements: schedules },
  { no: 18, name: 'restraint', statements: restraint },
  { no: 19, name: 'triggers', statements: triggers },
  { no: 20, name: 'sources', statements: sources },
  { no: 21, name: 'firings-by-age', statements: firingsByAge },
  { no: 22, name: 'webhooks', statements: webhooks },
  { no: 23, name: 'gateways', statements: gateways },
  { no: 24, name: 'leases', statements: leases },
  { no: 25, name: 'secrets-of-devices', statements: secretsOfDevices },
  { no: 26, name: 'bounds', statements: bounds },
  { no: 27, name: 'known-browsers', statements: knownBrowsers },
  { no: 28, name: 'reporters', statements: reporters },
  { no: 29, name: 'due-of-trigger', statements: dueOfTrigger },
  { no: 30, name: 'unmatched', statements: unmatched },
  { no: 31, name: 'origins', statements: origins },
  { no: 32, name: 'removals', statements: removals },
  { no: 33, name: 'former-devices', statements: formerDevices },
  { no: 34, name: 'request-keys', statements: requestKeys },
]
