/** Messages between servers: how ours are signed, and how theirs are believed. */
export * from './incoming.ts'
export * from './standard.ts'
export * from './telling.ts'
