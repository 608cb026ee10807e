import { socketWords } from '../net/index.ts'

/** A source that cannot be read, in words that go on from its name: what is wrong, and so far as it is known, what to do. */
export class SourceFault extends Error {
  override readonly name = 'SourceFault'
}

export const tookTooLong = (withinMs: number): SourceFault =>
  new SourceFault(`took longer than ${withinMs / 1_000} seconds for one answer; an index may be missing`)

export const passwordInClear = (place: string): SourceFault =>
  new SourceFault(
    `asks at ${place} for the password in clear, or by a key that nobody has verified: let it speak TLS (?tls=verify), or give its account another way to sign in`,
  )

/** What a socket’s error means. @returns undefined for another error */
export function socketFault(error: unknown, place: string): SourceFault | undefined {
  const says = socketWords(error, place)
  return says === undefined ? undefined : new SourceFault(says)
}
