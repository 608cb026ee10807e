export { uuidBuffer } from './columns.ts'
export { changeTogether, Database, type Reader, type Tx } from './database.ts'
export { afterNow, databaseTime } from './database-time.ts'
export { Abandoned, DatabaseBusy, DatabaseFull, DatabaseUnavailable, isDuplicate, TooSlow } from './errors.ts'
export { allOf, anyOf, commas, noneOf, tuples } from './fragments.ts'
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
  appStops,
  apps,
  attributes,
  calendarFeeds,
  channelBlocks,
  channelMutes,
  channels,
  credentials,
  deviceEvents,
  devices,
  gatewayExchanges,
  gatewayProfiles,
  gatewayRecordings,
  keys,
  knownBrowsers,
  milestones,
  notifications,
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
  topics,
  triggerEvents,
  triggers,
  usedProofs,
  userQuietHours,
  users,
  webhooks,
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
export { computed, condition, type RowOf, select } from './select.ts'
