import type { Io } from '../io.ts'

/** The clock time in the user's zone. */
export const clock = (iso: string, io: Io): string =>
  `${new Date(iso).toLocaleTimeString('en-GB', { timeZone: io.timeZone, hour12: false })}.${iso.slice(20, 23)}`

/** Date and time with the zone, for lists. */
export const moment = (iso: string, io: Io): string =>
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

/** How long something took, in the unit that reads best. */
export function span(ms: number): string {
  if (ms < 10) return `${ms.toFixed(1)} ms`
  if (ms < 1_000) return `${Math.round(ms)} ms`
  if (ms < 60_000) return `${(ms / 1_000).toFixed(1)} s`
  if (ms < 3_600_000) return `${Math.round(ms / 60_000)} min`
  return `${(ms / 3_600_000).toFixed(1)} h`
}

/** How long ago, in words. */
export function ago(iso: string, nowMs: number): string {
  const seconds = Math.max(0, Math.round((nowMs - Date.parse(iso)) / 1_000))
  if (seconds < 60) return `${seconds} s ago`
  if (seconds < 3_600) return `${Math.round(seconds / 60)} min ago`
  if (seconds < 172_800) return `${Math.round(seconds / 3_600)} h ago`
  return `${Math.round(seconds / 86_400)} days ago`
}
