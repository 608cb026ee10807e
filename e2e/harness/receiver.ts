import { createServer, type IncomingMessage, type ServerResponse } from 'node:http'
import type { AddressInfo } from 'node:net'
import { Webhook } from 'standardwebhooks'

/** An event as it came in. */
export type HeardEvent = {
  readonly id: string
  readonly type: string
  readonly subject: string
  readonly source: string
  readonly data: Record<string, unknown>
} & Record<string, unknown>

/** A request as it came in. */
export type HeardRequest = {
  readonly path: string
  readonly headers: IncomingMessage['headers']
  readonly text: string
  readonly events: readonly HeardEvent[]
}

export type Answering = (heard: HeardRequest, response: ServerResponse, request: IncomingMessage) => void

const fine: Answering = (_, response) => void response.writeHead(204).end()

function isSigned(secret: string, text: string, headers: IncomingMessage['headers']): boolean {
  try {
    new Webhook(secret).verify(text, headers as Record<string, string>)
    return true
  } catch {
    return false
  }
}

/** The app’s own server, as its developer writes it: it believes what is signed, and keeps what it heard. */
export class AppServer {
  readonly #server = createServer((request, response) => void this.#take(request, response))
  readonly heard: HeardRequest[] = []
  /** What was not signed as it should be. */
  readonly unbelieved: string[] = []
  readonly #secrets: string[]
  #answer: Answering = fine

  private constructor(secrets: string[]) {
    this.#secrets = secrets
  }

  static async open(...secrets: string[]): Promise<AppServer> {
    const own = new AppServer(secrets)
    await new Promise<void>((done) => own.#server.listen(0, '127.0.0.1', done))
    return own
  }

  get url(): string {
    return `http://127.0.0.1:${(this.#server.address() as AddressInfo).port}/bell`
  }

  get events(): HeardEvent[] {
    return this.heard.flatMap(({ events }) => [...events])
  }

  believe(...secrets: string[]): void {
    this.#secrets.splice(0, this.#secrets.length, ...secrets)
  }

  answer(answering: Answering = fine): void {
    this.#answer = answering
  }

  async #take(request: IncomingMessage, response: ServerResponse): Promise<void> {
    const parts: Buffer[] = []
    try {
      for await (const part of request) parts.push(part as Buffer)
    } catch {
      return // Whoever asked has hung up.
    }
    const text = Buffer.concat(parts).toString('utf8')
    if (this.#secrets.length > 0 && !this.#secrets.some((secret) => isSigned(secret, text, request.headers)))
      this.unbelieved.push(text)
    const body = JSON.parse(text) as HeardEvent | HeardEvent[]
    const heard = {
      path: request.url ?? '',
      headers: request.headers,
      text,
      events: Array.isArray(body) ? body : [body],
    }
    this.heard.push(heard)
    this.#answer(heard, response, request)
  }

  async close(): Promise<void> {
    this.#server.closeAllConnections()
    await new Promise((done) => this.#server.close(done))
  }
}
