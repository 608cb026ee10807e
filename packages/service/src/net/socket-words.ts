/** What a socket’s error means, in words that go on from whoever was called. @returns undefined for another error */
export function socketWords(error: unknown, place: string): string | undefined {
  const { code = '', message = '' } = error as { code?: string; message?: string }
  switch (code) {
    case 'ECONNREFUSED':
      return `cannot be reached: nothing answers at ${place}`
    case 'ENOTFOUND':
    case 'EAI_AGAIN':
      return `cannot be reached: there is no address of ${place}`
    case 'ETIMEDOUT':
    case 'EHOSTUNREACH':
    case 'ENETUNREACH':
    case 'PROTOCOL_SEQUENCE_TIMEOUT':
    case 'UND_ERR_CONNECT_TIMEOUT':
    case 'UND_ERR_HEADERS_TIMEOUT':
      return `did not answer in time at ${place}`
    case 'ECONNRESET':
    case 'EPIPE':
    case 'PROTOCOL_CONNECTION_LOST':
    case 'UND_ERR_SOCKET':
      return `hung up at ${place}`
    case 'ADDRESS_NOT_ALLOWED':
      return `may not be called: ${message}; the operator can allow private networks`
    default:
      return /certificate|self.signed|CERT_|UNABLE_TO/.test(`${code} ${message}`)
        ? `shows a certificate at ${place} that is not trusted (${message}); say its authority as ca`
        : undefined
  }
}
