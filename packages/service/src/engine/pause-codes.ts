import type { Hold } from './notification.ts'

/** How it is kept that somebody stopped a notification. */
export const holds = { none: 0, paused: 1, cancelled: 2 } as const satisfies Record<Hold, number>

const names = Object.fromEntries(Object.entries(holds).map(([name, code]) => [code, name])) as Record<number, Hold>
export const holdOfCode = (code: number): Hold => names[code] ?? 'none'
