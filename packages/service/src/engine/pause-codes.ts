import type { Pause } from './notification.ts'

/** How it is kept that somebody stopped a notification. */
export const pauseCodes = { none: 0, paused: 1, cancelled: 2 } as const satisfies Record<Pause, number>

const names = Object.fromEntries(Object.entries(pauseCodes).map(([name, code]) => [code, name])) as Record<
  number,
  Pause
>
export const pauseOfCode = (code: number): Pause => names[code] ?? 'none'
