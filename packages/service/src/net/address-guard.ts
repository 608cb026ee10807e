import { lookup as dnsLookup, type LookupAddress } from 'node:dns'
import { BlockList, isIP, type LookupFunction } from 'node:net'

/** The address of a push endpoint points where the service must not call. */
export class AddressNotAllowed extends Error {
  override readonly name = 'AddressNotAllowed'
  readonly code = 'ADDRESS_NOT_ALLOWED'
}

const guarded = new BlockList()
for (const [net, bits] of [
  ['0.0.0.0', 8],
  ['10.0.0.0', 8],
  ['100.64.0.0', 10],
  ['127.0.0.0', 8],
  ['169.254.0.0', 16],
  ['172.16.0.0', 12],
  ['192.0.0.0', 24],
  ['192.168.0.0', 16],
  ['198.18.0.0', 15],
  ['224.0.0.0', 3],
] as const) {
  guarded.addSubnet(net, bits, 'ipv4')
}
for (const [net, bits] of [
  // Those that carry an IPv4 address within them lead wherever that one does (RFC 4291 §2.5.5, RFC 6052, RFC 8215, RFC 3056,
  // RFC 4380, RFC 2765): a public host has no need to be called so. Through mapped ones (::ffff:0:0/96) the list sees by itself.
  ['::', 96],
  ['::ffff:0:0:0', 96],
  ['64:ff9b::', 96],
  ['64:ff9b:1::', 48],
  ['2001::', 32],
  ['2002::', 16],
  ['fc00::', 7],
  ['fec0::', 10],
  ['fe80::', 10],
  ['ff00::', 8],
] as const) {
  guarded.addSubnet(net, bits, 'ipv6')
}

/** Whether an IP address lies in a loopback, private, link-local, metadata or multicast range. */
export const isGuarded = (address: string): boolean =>
  // BlockList sees through IPv4-mapped IPv6 addresses by itself.
  guarded.check(address, isIP(address) === 6 ? 'ipv6' : 'ipv4')

/** @throws {AddressNotAllowed} for a host that is an address in a guarded range; names are checked when they are resolved */
export function checkHost(host: string): void {
  const bare = host.replace(/^\[|\]$/g, '')
  if (isIP(bare) !== 0 && isGuarded(bare)) throw new AddressNotAllowed(`${bare} is in a private network`)
}

/** A lookup for sockets: the very address that was checked is the one that is connected to. */
export const guardedLookup: LookupFunction = (host, options, done) => {
  dnsLookup(host, { ...options, all: true }, (error, found: LookupAddress[]) => {
    if (error) return done(error, '', 0)
    const bad = found.find(({ address }) => isGuarded(address))
    if (bad) return done(new AddressNotAllowed(`${host} leads into a private network`), '', 0)
    if (options.all) return (done as unknown as (e: null, a: LookupAddress[]) => void)(null, found)
    const [first] = found
    return done(null, first?.address ?? '', first?.family ?? 0)
  })
}

/** Which addresses may be called. */
export type AddressGuard = {
  /** @throws {AddressNotAllowed} */
  check(endpoint: URL): void
  readonly lookup: LookupFunction | undefined
}

/** Anything but private networks: names are looked at again when they are resolved. */
export const publicOnly: AddressGuard = { check: ({ hostname }) => checkHost(hostname), lookup: guardedLookup }

/** The operator allowed private networks. */
export const anywhere: AddressGuard = { check: () => {}, lookup: undefined }

/** @param hosts names, or `*.` and a name for all below it; anything when there are none */
export const onlyHosts = (hosts: readonly string[], guard: AddressGuard): AddressGuard =>
  hosts.length === 0
    ? guard
    : {
        check(endpoint) {
          const isListed = hosts.some((host) =>
            host.startsWith('*.') ? endpoint.hostname.endsWith(host.slice(1)) : endpoint.hostname === host,
          )
          if (!isListed)
            throw new AddressNotAllowed(`${endpoint.hostname} is not among the push services of this service`)
          guard.check(endpoint)
        },
        lookup: guard.lookup,
      }

/** One origin and no other. */
export const onlyOrigin = (origin: string): AddressGuard => ({
  check(endpoint) {
    if (endpoint.origin !== origin) throw new AddressNotAllowed(`${endpoint.origin} is not ${origin}`)
  },
  lookup: undefined,
})
