import { ProblemError } from '@zbell/contract/client'

/** The problem with which a call is refused. @throws when it is not */
export async function refusal(call: Promise<unknown>) {
  const error = await call.then(
    () => undefined,
    (one: unknown) => one,
  )
  if (error instanceof ProblemError) return error.problem
  throw error ?? new Error('it was not refused')
}
