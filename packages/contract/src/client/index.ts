export * from './client.ts'
export * from './problem-error.ts'
