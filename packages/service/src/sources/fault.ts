/** A source that cannot be read, in words that go on from its name: what is wrong, and so far as it is known, what to do. */
export class SourceFault extends Error {
  override readonly name = 'SourceFault'
}

/** Nobody waits longer for a source than this, for each of its answers. */
export const answerWithinMs = 10_000

/** What a socket’s error means. @returns undefined for another error */
export function socketFault(error: unknown, place: string): SourceFault | undefined {
  const { code = '', message = '' } = error as { code?: string; message?: string }
  switch (code) {
    case 'ECONNREFUSED':
      return new SourceFault(`cannot be reached: nothing answers at ${place}`)
    case 'ENOTFOUND':
    case 'EAI_AGAIN':
      return new SourceFault(`cannot be reached: there is no address of ${place}`)
    case 'ETIMEDOUT':
    case 'EHOSTUNREACH':
    case 'ENETUNREACH':
    case 'PROTOCOL_SEQUENCE_TIMEOUT':
      return new SourceFault(`did not answer in time at ${place}`)
    case 'ECONNRESET':
    case 'EPIPE':
    case 'PROTOCOL_CONNECTION_LOST':
      return new SourceFault(`hung up at ${place}`)
    case 'ADDRESS_NOT_ALLOWED':
      return new SourceFault(`may not be called: ${message}; the operator can allow private networks`)
    default:
      return /certificate|self.signed|CERT_|UNABLE_TO/.test(`${code} ${message}`)
        ? new SourceFault(`shows a certificate at ${place} that is not trusted (${message}); say its authority as ca`)
        : undefined
  }
}
