import type { IncomingMessage } from 'node:http'
import { type BlockList, isIP } from 'node:net'
import { addressList } from '../base/index.ts'

/**
 * Where a request comes from: the address that connects, or, when that is a trusted proxy, whoever it names (RFC 7239, or the
 * older X-Forwarded-For). Each proxy writes behind those before it, so the list is read from its end; what stands before the
 * first address that is not trusted anybody can have written.
 *
 * A proxy that knows only one of the two headers hands the other on as a client made it up. Where both came and do not name
 * the same, neither is believed.
 */
export class ClientAddresses {
  readonly #trusted: BlockList
  readonly #onProxy: (isTrusted: boolean, address: string) => void

  /** @param onProxy is called with each request that came by way of a proxy */
  constructor(trusted: readonly string[], onProxy: (isTrusted: boolean, address: string) => void = () => {}) {
    this.#trusted = addressList(trusted)
    this.#onProxy = onProxy
  }

  of(request: Pick<IncomingMessage, 'headers' | 'socket'>): string {
    const peer = plain(request.socket.remoteAddress ?? '')
    const { forwarded, 'x-forwarded-for': older } = request.headers
    if (forwarded === undefined && older === undefined) return peer
    const isTrusted = this.isTrusted(peer)
    this.#onProxy(isTrusted, peer)
    if (!isTrusted) return peer
    const named = forwarded === undefined ? undefined : this.#last(forwardedFor(forwarded), peer)
    const said = older === undefined ? undefined : this.#last(String(older).split(','), peer)
    if (named !== undefined && said !== undefined && named !== said) return peer
    return named ?? said ?? peer
  }

  isTrusted(address: string): boolean {
    const family = isIP(address)
    return family !== 0 && this.#trusted.check(address, family === 6 ? 'ipv6' : 'ipv4')
  }

  /** The last one that is not a trusted proxy. */
  #last(names: readonly string[], peer: string): string {
    let last = peer
    for (const name of [...names].reverse()) {
      const address = addressIn(name)
      // A proxy that does not say whom it stands for is itself the last one that is known.
      if (address === undefined) return last
      last = address
      if (!this.isTrusted(address)) return last
    }
    return last
  }
}

/** IPv4 as such, also where it came in over an IPv6 socket. */
const plain = (address: string): string => (address.startsWith('::ffff:') ? address.slice(7) : address)

/** An address, with its port or without (RFC 7239 §6): `192.0.2.43:47011`, `"[2001:db8::1]:4711"`. */
function addressIn(name: string): string | undefined {
  const bare = name.trim().replace(/^"(.*)"$/, '$1')
  const inBrackets = /^\[([^\]]+)\](?::\d+)?$/.exec(bare)?.[1]
  const address = plain(inBrackets ?? (isIP(bare) === 0 ? bare.replace(/:\d+$/, '') : bare))
  return isIP(address) === 0 ? undefined : address
}

/** The `for` of each element (RFC 7239 §4); empty where it says none. */
function forwardedFor(header: string): string[] {
  // Commas and semicolons inside quotes part nothing.
  const elements = header.match(/(?:"(?:[^"\\]|\\.)*"|[^,"])+/g) ?? []
  return elements.map((element) => {
    const pairs = element.match(/(?:"(?:[^"\\]|\\.)*"|[^;"])+/g) ?? []
    const named = pairs.map((pair) => /^\s*for\s*=(.*)$/is.exec(pair)?.[1]).find((value) => value !== undefined)
    return named ?? ''
  })
}
