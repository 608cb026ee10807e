import { socketWords } from '../gateways/socket-words.ts'

/** A source that cannot be read, in words that go on from its name: what is wrong, and so far as it is known, what to do. */
export class SourceFault extends Error {
  override readonly name = 'SourceFault'
}

/** Nobody waits longer for a source than this, for each of its answers. */
export const answerWithinMs = 10_000

/** What a socket’s error means. @returns undefined for another error */
export function socketFault(error: unknown, place: string): SourceFault | undefined {
  const says = socketWords(error, place)
  return says === undefined ? undefined : new SourceFault(says)
}
