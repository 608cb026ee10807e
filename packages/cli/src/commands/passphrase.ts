import { ProblemError } from '@zbell/contract/client'
import type { Io } from '../io.ts'

/** Calls without a passphrase first, and asks for one, without echo, only when the file turns out to need it. */
export async function askPassphrase<T>(
  call: (passphrase: string | undefined) => Promise<T>,
  given: string | undefined,
  io: Io,
): Promise<T> {
  try {
    return await call(given)
  } catch (error) {
    const needed =
      error instanceof ProblemError && error.problem.errors?.some(({ code }) => code === 'passphrase-needed')
    if (!needed || given !== undefined || !io.askSecret) throw error
    return call(await io.askSecret('Passphrase: '))
  }
}
