import { ago } from '@zbell/contract/words'
import { useSyncExternalStore } from 'react'

const exact = new Intl.DateTimeFormat('en-GB', {
  weekday: 'short',
  day: 'numeric',
  month: 'short',
  year: 'numeric',
  hour: '2-digit',
  minute: '2-digit',
  second: '2-digit',
  timeZoneName: 'short',
})
const clock = new Intl.DateTimeFormat('en-GB', { hour: '2-digit', minute: '2-digit' })
const day = new Intl.DateTimeFormat('en-GB', { day: 'numeric', month: 'short' })
const dayOfYear = new Intl.DateTimeFormat('en-GB', { day: 'numeric', month: 'short', year: 'numeric' })

/** One clock for all moments of a page: they move together, and a page without any has none. */
const tickMs = 15_000
const listeners = new Set<() => void>()
let ticking: ReturnType<typeof setInterval> | undefined
let nowMs = Date.now()
const subscribe = (listener: () => void) => {
  listeners.add(listener)
  nowMs = Date.now()
  ticking ??= setInterval(() => {
    nowMs = Date.now()
    for (const one of listeners) one()
  }, tickMs)
  return () => {
    listeners.delete(listener)
    if (listeners.size > 0) return
    clearInterval(ticking)
    ticking = undefined
  }
}

/** The zone in which this console tells times. */
export const ownZone: string = Intl.DateTimeFormat().resolvedOptions().timeZone

/** A moment: how long ago it is, the clock of today, or the date; the exact time with its zone on hover. */
export function Moment({ at }: { readonly at: string }) {
  const now = useSyncExternalStore(subscribe, () => nowMs)
  const date = new Date(at)
  return (
    <time dateTime={at} title={`${exact.format(date)} (${ownZone})`} className="whitespace-nowrap">
      {sayMoment(date, Math.max(now, date.getTime()))}
    </time>
  )
}

/** Beyond so long the clock says more than how long ago it is. */
const relativeForMs = 3_600_000

export function sayMoment(date: Date, now: number): string {
  if (now - date.getTime() < relativeForMs) return ago(date.toISOString(), now)
  const today = new Date(now)
  if (date.toDateString() === today.toDateString()) return clock.format(date)
  const name = date.getFullYear() === today.getFullYear() ? day : dayOfYear
  return `${name.format(date)}, ${clock.format(date)}`
}
