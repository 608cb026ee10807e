export {
  claimEntries,
  countOutbox,
  dueWebhooks,
  extendEntries,
  finishStatement,
  makeEntriesDue,
  type OutboxEntry,
  type OutboxState,
  outboxState,
  outboxStatement,
  overdueEntries,
  pruneOldest,
  pruneOutboxOf,
  putBackStatement,
  releaseStatement,
} from './outbox.ts'
export { type DeliveryGroup, type Fact, type Page, packEvents, unpackPage } from './page.ts'
export { isSubscribed, publish, publishDeliveries, type Step, subscribers } from './publish.ts'
export { queueOccurrences, type Reporter, takeEvents, type WaitingEvent, waitingEvents } from './trigger-events.ts'
