import type { Socket } from 'node:net'
import { SourceFault } from './fault.ts'

/** A database may send so much before something of it is complete: a row, or the columns. */
const maxBytes = 8_000_000
const everyMs = 20

/** Ends a connection whose server sends more than anybody can keep: drivers keep what comes until it is complete. */
export class ReceivedBytes {
  #socket: Socket | undefined
  #bytes = 0
  #fault: SourceFault | undefined

  /** @param socket below any TLS */
  watch(socket: Socket): Socket {
    this.#socket = socket
    return socket
  }

  /** Counts while an answer is awaited. TLS takes bytes off the socket without its knowing, but the socket’s counter goes on. */
  async during<T>(answer: Promise<T>): Promise<T> {
    this.reset()
    const timer = setInterval(() => this.#check(), everyMs)
    try {
      return await answer
    } finally {
      clearInterval(timer)
    }
  }

  #check(): void {
    if (!this.#socket || this.#socket.bytesRead - this.#bytes <= maxBytes) return
    this.#fault = new SourceFault(
      `sends more than ${maxBytes.toLocaleString('en')} bytes for one row; leave large columns out`,
    )
    this.#socket.destroy(this.#fault)
  }

  /** Something is complete. */
  reset(): void {
    this.#bytes = this.#socket?.bytesRead ?? 0
  }

  /** Why the connection was ended. */
  get fault(): SourceFault | undefined {
    return this.#fault
  }
}
