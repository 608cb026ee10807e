import { ProblemError, UnreachableError } from '@zbell/contract/client'

/** A failure as two sentences: what is wrong, and what to do. */
export function sayFailure(error: unknown): { readonly says: string; readonly does: string } {
  if (error instanceof ProblemError) return { says: error.problem.detail, does: error.problem.remedy }
  if (error instanceof UnreachableError)
    return { says: 'The service does not answer.', does: 'Check that it is running; this page tries again by itself.' }
  return { says: 'Something in this page failed.', does: 'Reload the page and try again.' }
}

export const isSignedOut = (error: unknown): boolean => error instanceof ProblemError && error.problem.status === 401

/** Whoever is signed in may not do or see it. */
export const isNotAllowed = (error: unknown): boolean => error instanceof ProblemError && error.problem.status === 403

/** What is wrong with each place of a request. */
export const faultsOf = (error: unknown): Record<string, string> =>
  error instanceof ProblemError
    ? Object.fromEntries((error.problem.errors ?? []).map(({ pointer, detail }) => [pointer, detail]))
    : {}
