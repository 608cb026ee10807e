export {
  type ClaimedTelling,
  claimTellings,
  countTellings,
  dropOldest,
  dropSubject,
  dueReceivers,
  extendTellings,
  finishStatement,
  giveBackStatement,
  hurryTellings,
  overdueTellings,
  releaseStatement,
  tellingStatement,
  type WaitingTellings,
  waitingTellings,
} from './outbox.ts'
export { type DeliveryGroup, type Fact, type Page, packEvents, unpackPage } from './page.ts'
export { isHeard, listeners, type Step, tell, tellDeliveries } from './publish.ts'
export { leaveEvents, type Reporter, takeEvents, type WaitingEvent, waitingEvents } from './trigger-events.ts'
