import { textFault } from './plain-text.ts'

/** Names that would reach into an object's prototype when copied by assignment. */
const reservedNames = new Set(['__proto__', 'constructor', 'prototype'])

/** What makes a JSON value unfit to travel as a notification's data: where, and what is wrong. */
export type DataFault = { readonly path: readonly (string | number)[]; readonly says: string }

/**
 * Looks for the first fault in a JSON value.
 * @param maxDepth how many levels of arrays and objects may lie in one another
 */
export function dataFault(
  value: unknown,
  maxDepth: number,
  path: readonly (string | number)[] = [],
): DataFault | undefined {
  if (typeof value === 'string') {
    const says = textFault(value)
    return says ? { path, says } : undefined
  }
  if (typeof value !== 'object' || value === null) return undefined
  if (maxDepth === 0) return { path, says: 'is nested too deeply' }
  for (const [key, child] of Object.entries(value)) {
    const at = [...path, Array.isArray(value) ? Number(key) : key]
    if (reservedNames.has(key)) return { path: at, says: 'has a reserved name' }
    const fault = textFault(key)
    if (fault) return { path, says: `has a name that ${fault}` }
    const deeper = dataFault(child, maxDepth - 1, at)
    if (deeper) return deeper
  }
  return undefined
}
