import {
  createSecureServer,
  type Http2SecureServer,
  type IncomingHttpHeaders,
  type ServerHttp2Session,
  type ServerHttp2Stream,
} from 'node:http2'
import type { AddressInfo } from 'node:net'
import type { TLSSocket } from 'node:tls'
import type { ServerCertificate } from '../certificates/authority.ts'

export type GatewayRequest = {
  readonly method: string
  readonly path: string
  readonly headers: IncomingHttpHeaders
  readonly body: Buffer
  /** The connection showed a certificate of the account's. */
  readonly isCertified: boolean
}
export type GatewayReply = {
  readonly status: number
  readonly headers?: Record<string, string>
  readonly body?: string
}

const maxBodyBytes = 64 * 1024

/** A gateway's listener: HTTP/2 over TLS on loopback. */
export class Http2Listener {
  readonly #server: Http2SecureServer
  readonly #sessions = new Set<ServerHttp2Session>()

  private constructor(server: Http2SecureServer) {
    this.#server = server
  }

  static async open(
    certificate: ServerCertificate,
    port: number,
    answer: (asked: GatewayRequest) => Promise<GatewayReply>,
    accountCa?: string,
  ): Promise<Http2Listener> {
    const server = createSecureServer({
      cert: certificate.cert,
      key: certificate.key,
      // Whoever shows none may still have a token.
      ...(accountCa === undefined ? {} : { ca: accountCa, requestCert: true, rejectUnauthorized: false }),
      settings: { maxConcurrentStreams: 1_000 },
    })
    const listener = new Http2Listener(server)
    server.on('session', (session) => {
      listener.#sessions.add(session)
      session.once('close', () => listener.#sessions.delete(session))
      session.on('error', () => session.destroy())
    })
    server.on('stream', (stream, headers) => listener.#serve(stream, headers, answer))
    await new Promise<void>((done, fail) => {
      server.once('error', fail)
      server.listen(port, '127.0.0.1', done)
    })
    return listener
  }

  get port(): number {
    return (this.#server.address() as AddressInfo).port
  }

  get origin(): string {
    return `https://127.0.0.1:${this.port}`
  }

  /** Ends every connection at once, as a gateway that restarts does. */
  drop(): void {
    for (const session of this.#sessions) session.destroy()
  }

  async close(): Promise<void> {
    this.drop()
    await new Promise<void>((done) => this.#server.close(() => done()))
  }

  #serve(
    stream: ServerHttp2Stream,
    headers: IncomingHttpHeaders,
    answer: (asked: GatewayRequest) => Promise<GatewayReply>,
  ): void {
    const chunks: Buffer[] = []
    let size = 0
    // A client that goes away in the middle is its own affair.
    stream.on('error', () => stream.destroy())
    stream.on('data', (chunk: Buffer) => {
      size += chunk.length
      if (size <= maxBodyBytes) chunks.push(chunk)
    })
    stream.on('end', () => {
      const asked = {
        method: String(headers[':method']),
        path: String(headers[':path']),
        headers,
        body: Buffer.concat(chunks),
        isCertified: (stream.session?.socket as TLSSocket | undefined)?.authorized === true,
      }
      const answered = size > maxBodyBytes ? Promise.resolve({ status: 413 } as GatewayReply) : answer(asked)
      answered.then(
        ({ status, headers: extra, body }) => {
          if (stream.destroyed || stream.closed) return
          stream.respond({ ':status': status, ...extra }, { endStream: body === undefined })
          if (body !== undefined) stream.end(body)
        },
        () => {
          if (!stream.destroyed) stream.respond({ ':status': 500 }, { endStream: true })
        },
      )
    })
  }
}
