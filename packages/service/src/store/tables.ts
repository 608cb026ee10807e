/** All tables as Drizzle knows them; what makes them is in `migrations/`, and a test holds the two together. */
export * from './tables/app-tables.ts'
export * from './tables/device-tables.ts'
export * from './tables/notification-tables.ts'
export * from './tables/operating-tables.ts'
export * from './tables/people-tables.ts'
export * from './tables/restraint-tables.ts'
export * from './tables/trigger-tables.ts'
export * from './tables/webhook-tables.ts'
