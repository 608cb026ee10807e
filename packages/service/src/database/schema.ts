/**
 * What the database is: every table with its columns, types, collations, keys and indexes. The migrations are written from it, and a
 * test compares the two.
 */
export * from './schema/accounts.ts'
export * from './schema/apps.ts'
export * from './schema/deliveries.ts'
export * from './schema/devices.ts'
export * from './schema/gateways.ts'
export * from './schema/notifications.ts'
export * from './schema/operations.ts'
export * from './schema/people.ts'
export * from './schema/policy.ts'
export * from './schema/queue.ts'
export * from './schema/schedules.ts'
export * from './schema/triggers.ts'
export * from './schema/webhooks.ts'
