export { scheme } from './connections.ts'
export type { HttpParts } from './parts.ts'
export { rateLimits } from './rate-limits.ts'
export { httpServer } from './server.ts'
