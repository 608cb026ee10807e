export { type CalendarRule, calendarLimits, parseCalendarRule } from './calendar-rule.ts'
export { horizonYears, type Recurring, ringTimes } from './ring-times.ts'
