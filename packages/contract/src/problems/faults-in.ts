import type { TextPlace } from '@zbell/core'
import { type Fault, neededFault } from './problem.ts'

/**
 * What a schema found, in the words that the service answers with: whoever checks before asking says the same.
 * @param value what was given
 * @param most so many places are named
 */
export function faultsIn(error: { readonly issues: readonly Issue[] }, value: unknown, most = 20): Fault[] {
  return error.issues
    .slice(0, most)
    .flatMap(flatten)
    .slice(0, most)
    .map((issue) => ({
      pointer: issue.path.map((step) => `/${String(step).replaceAll('~', '~0').replaceAll('/', '~1')}`).join(''),
      detail: issue.message.slice(0, 300),
      ...codeOf(issue, value),
      ...issue.params?.place,
    }))
}

type Issue = {
  readonly path: readonly PropertyKey[]
  readonly message: string
  readonly code?: string | undefined
  /** What a check of ours says of itself. */
  readonly params?: { readonly fault?: string; readonly place?: TextPlace | undefined } | undefined
}

function codeOf({ code, path, params }: Issue, value: unknown): { readonly code?: string } {
  if (params?.fault !== undefined) return { code: params.fault }
  if (code !== 'invalid_type') return {}
  const there = path.reduce<unknown>(
    (part, step) =>
      typeof part === 'object' && part !== null ? (part as Record<PropertyKey, unknown>)[step] : undefined,
    value,
  )
  return there === undefined ? { code: neededFault } : {}
}

/** Of a union's branches the one that came furthest says best what is wrong. */
function flatten(issue: Issue & { readonly errors?: readonly (readonly Issue[])[] }): Issue[] {
  if (issue.code !== 'invalid_union' || !issue.errors || issue.errors.length === 0) return [issue]
  const depth = (issues: readonly Issue[]) => Math.max(...issues.map(({ path }) => path.length))
  const [best = []] = [...issue.errors].sort((a, b) => depth(b) - depth(a) || a.length - b.length)
  return best.map((inner) => ({ ...inner, path: [...issue.path, ...inner.path] }))
}
