export { neededFault } from '../problems/problem.ts'
export * from './client.ts'
export * from './problem-error.ts'
