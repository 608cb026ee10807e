export { type CalendarRule, calendarLimits, parseCalendarRule } from './calendar-rule.ts'
export { firstZone, lastZone, type Past, type ReadersHour, readerDue, readersEnd, readersTurn } from './reader-zones.ts'
export { horizonYears, type Recurring, ringTimes, timesOnDays } from './ring-times.ts'
export {
  idleExceptions,
  type Timing,
  timesAfter,
  timingOf,
  type When,
  type WhenFault,
  whenFaults,
  whenLimits,
} from './when.ts'
