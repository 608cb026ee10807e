import type { Io } from '../io.ts'

/** The clock time in the user's zone. */
export const clock = (iso: string, io: Pick<Io, 'timeZone'>): string =>
  `${new Date(iso).toLocaleTimeString('en-GB', { timeZone: io.timeZone, hour12: false })}.${iso.slice(20, 23)}`

/** Date and time with the zone, for lists. */
export const moment = (iso: string, io: Pick<Io, 'timeZone'>): string =>
  new Intl.DateTimeFormat('en-GB', {
    timeZone: io.timeZone,
    year: 'numeric',
    month: 'short',
    day: '2-digit',
    hour: '2-digit',
    minute: '2-digit',
    second: '2-digit',
    timeZoneName: 'short',
  }).format(new Date(iso))
