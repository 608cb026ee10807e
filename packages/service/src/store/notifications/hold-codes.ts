/** Whether somebody holds a notification back. */
export const holds = { none: 0, paused: 1, cancelled: 2 } as const
export type Hold = keyof typeof holds

const names = Object.fromEntries(Object.entries(holds).map(([name, code]) => [code, name])) as Record<number, Hold>
export const holdOfCode = (code: number): Hold => names[code] ?? 'none'
