export { uuidBuffer } from './columns.ts'
export { changeTogether, Database, type Reader, type Tx } from './database.ts'
export { afterNow, databaseTime } from './database-time.ts'
export { Abandoned, DatabaseBusy, DatabaseFull, DatabaseUnavailable, isDuplicate, TooSlow } from './errors.ts'
export { allOf, anyOf, build, type Change, commas, incoming, noneOf, now, tuples } from './fragments.ts'
export { isFree, Lease, underLease } from './lease.ts'
export { migrate, SchemaTooNew, SchemaTooOld } from './migrate.ts'
export { inScope, named, versioned } from './named.ts'
export { inOrder, isPlace, type Placed, placeOf, type SortKey } from './page-order.ts'
export { FolderTaken } from './private/folder-lock.ts'
export { freePort, MariaDbMissing, PrivateServer } from './private/private-server.ts'
export { leaveRows, removeLeftRows } from './removals.ts'
export type { OutboxKind } from './schema/queue.ts'
export type { RequestOutcome } from './schema/webhooks.ts'
export {
  accounts,
  appSettings,
  appStops,
  apps,
  attributes,
  calendarFeeds,
  capPages,
  channelBlocks,
  channelMutes,
  channels,
  credentials,
  dayCounts,
  deliveries,
  deviceEvents,
  devices,
  deviceTokens,
  earlyReceipts,
  firings,
  formerDevices,
  gatewayAnswers,
  gatewayExchanges,
  gatewayProfiles,
  gatewayRecordings,
  jobs,
  keys,
  knownBrowsers,
  milestones,
  notificationCounts,
  notifications,
  occurrences,
  outbox,
  processes,
  requestKeys,
  scheduleRuns,
  schedules,
  segments,
  sessions,
  signedTokens,
  signInLinks,
  sourcePages,
  sources,
  templates,
  topicDevices,
  topics,
  topicUsers,
  triggerEvents,
  triggers,
  usedProofs,
  userAttributes,
  userQuietHours,
  userRefusalCounts,
  users,
  webhookLog,
  webhooks,
  work,
} from './schema.ts'
export {
  type AccountRow,
  type AppRow,
  type DeviceRow,
  type GatewayPlace,
  inWhere,
  type OnGateway,
  type Scope,
  type Where,
  whereOf,
} from './scope.ts'
export { computed, condition, present, type RowOf, select } from './select.ts'
