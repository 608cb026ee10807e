export const directions = ['ascending', 'descending'] as const
export type Direction = (typeof directions)[number]

/**
 * What the list of devices can be put in order by, and which way unless another is asked for. `reach`: those that can be
 * rung, then muted ones, those without permission, and retired ones.
 */
export const deviceSorts = {
  registeredAt: 'descending',
  seenAt: 'descending',
  receiptAt: 'descending',
  changedAt: 'descending',
  user: 'ascending',
  platform: 'ascending',
  model: 'ascending',
  reach: 'ascending',
  locale: 'ascending',
  timeZone: 'ascending',
  appVersion: 'descending',
  systemVersion: 'descending',
} as const satisfies Record<string, Direction>
export type DeviceSort = keyof typeof deviceSorts

/** The columns that the list of people can be put in order by, and which way unless another is asked for. */
export const personSorts = {
  createdAt: 'descending',
  changedAt: 'descending',
  user: 'ascending',
  devices: 'descending',
  topics: 'descending',
} as const satisfies Record<string, Direction>
export type PersonColumn = keyof typeof personSorts

export type PersonSort = PersonColumn | `attribute.${string}`
