import { connect, type Socket } from 'node:net'

type Waiting = { done(body: string): void; fail(error: Error): void }

/**
 * The least that speaks HTTP/1.1 with our own service: kept connections, one request at a time on each, bodies with a
 * Content-Length. `node:http` would use as much of the machine for asking as the service does for answering.
 */
export class PlainClient {
  readonly #host: string
  readonly #port: number
  readonly #idle: Connection[] = []
  readonly #all: Connection[] = []

  constructor(url: string) {
    const { hostname, port } = new URL(url)
    this.#host = hostname
    this.#port = Number(port)
  }

  /** @throws {Error} for an answer that is not 2xx */
  async post(path: string, bearer: string, body: string): Promise<string> {
    const connection = this.#kept() ?? this.#open()
    const answer = await connection.ask(
      `POST ${path} HTTP/1.1\r\nHost: ${this.#host}\r\nAuthorization: Bearer ${bearer}\r\n` +
        `Content-Type: application/json\r\nContent-Length: ${Buffer.byteLength(body)}\r\n\r\n${body}`,
    )
    this.#idle.push(connection)
    return answer
  }

  close(): void {
    for (const connection of this.#all) connection.close()
  }

  /** The service closes what rests for long. */
  #kept(): Connection | undefined {
    for (;;) {
      const connection = this.#idle.pop()
      if (!connection?.closed) return connection
    }
  }

  #open(): Connection {
    const connection = new Connection(this.#host, this.#port)
    this.#all.push(connection)
    return connection
  }
}

class Connection {
  readonly #socket: Socket
  #waiting: Waiting | undefined
  #held = ''

  constructor(host: string, port: number) {
    this.#socket = connect({ host, port, noDelay: true })
    // One character a byte, so that lengths count bytes.
    this.#socket.setEncoding('latin1')
    this.#socket.on('data', (part: string) => this.#take(part))
    this.#socket.on('error', (error) => this.#waiting?.fail(error))
    this.#socket.on('close', () => this.#waiting?.fail(new Error('the service closed the connection')))
  }

  get closed(): boolean {
    return this.#socket.readyState === 'closed' || this.#socket.readyState === 'readOnly'
  }

  ask(request: string): Promise<string> {
    return new Promise((done, fail) => {
      this.#waiting = { done, fail }
      this.#socket.write(request)
    })
  }

  close(): void {
    this.#waiting = undefined
    this.#socket.destroy()
  }

  #take(part: string): void {
    this.#held += part
    const headEnd = this.#held.indexOf('\r\n\r\n')
    if (headEnd < 0) return
    const head = this.#held.slice(0, headEnd)
    const length = Number(/\r\ncontent-length: (\d+)/i.exec(head)?.[1])
    if (!(this.#held.length >= headEnd + 4 + length)) return
    const body = this.#held.slice(headEnd + 4, headEnd + 4 + length)
    this.#held = this.#held.slice(headEnd + 4 + length)
    const waiting = this.#waiting
    this.#waiting = undefined
    const status = Number(head.slice(9, 12))
    if (status >= 200 && status < 300) waiting?.done(Buffer.from(body, 'latin1').toString())
    else waiting?.fail(new Error(`${status}: ${body}`))
  }
}
