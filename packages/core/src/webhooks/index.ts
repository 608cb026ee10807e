/** Messages between servers: what is told, how ours are signed, and how theirs are believed. */

export * from './circuit.ts'
export * from './dispatch.ts'
export * from './event.ts'
export * from './incoming.ts'
export * from './kinds.ts'
export * from './standard.ts'
