import { BlockList, isIP } from 'node:net'

/** Addresses and ranges, such as `10.0.0.0/8` and `::1`. @throws {RangeError} for what is neither */
export function addressList(all: readonly string[]): BlockList {
  const list = new BlockList()
  for (const one of all) {
    const [address = '', bits] = one.split('/')
    const family = isIP(address)
    const most = family === 6 ? 128 : 32
    const length = bits === undefined ? most : Number(bits)
    if (family === 0 || !/^\d{1,3}$/.test(bits ?? '0') || length > most)
      throw new RangeError(`${one} is no address and no range of addresses`)
    list.addSubnet(address, length, family === 6 ? 'ipv6' : 'ipv4')
  }
  return list
}
