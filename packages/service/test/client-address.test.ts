import { describe, expect, test } from '@jest/globals'
import { loadConfig } from '../src/base/config/load.ts'
import { ClientAddresses } from '../src/http/client-address.ts'

const addresses = new ClientAddresses(['10.0.0.0/8', '::1', '2001:db8:99::/48'])
const of = (peer: string, headers: Record<string, string>, known = addresses) =>
  known.of({ headers, socket: { remoteAddress: peer } } as never)

describe('where a request comes from', () => {
  test.each<[string, string, Record<string, string>, string]>([
    ['who connects, when nothing is said', '192.0.2.1', {}, '192.0.2.1'],
    [
      'who connects, whatever a stranger says',
      '192.0.2.1',
      { forwarded: 'for=192.0.2.9', 'x-forwarded-for': '192.0.2.9' },
      '192.0.2.1',
    ],
    ['whom a trusted proxy names', '10.0.0.1', { forwarded: 'for=192.0.2.9;proto=https;by=10.0.0.1' }, '192.0.2.9'],
    ['the older header', '10.0.0.1', { 'x-forwarded-for': '192.0.2.9' }, '192.0.2.9'],
    ['the last that is no proxy', '10.0.0.1', { 'x-forwarded-for': '198.51.100.7, 192.0.2.9, 10.0.0.2' }, '192.0.2.9'],
    ['what stands before it is anybody’s', '10.0.0.1', { forwarded: 'for=198.51.100.7, for=192.0.2.9' }, '192.0.2.9'],
    [
      'an IPv6 address in quotes, with a port',
      '::1',
      { forwarded: 'proto=http; For="[2001:db8::17]:4711"' },
      '2001:db8::17',
    ],
    [
      'commas inside quotes part nothing',
      '::1',
      { forwarded: 'for="_a,b";by="x;for=1.2.3.4", for=192.0.2.9' },
      '192.0.2.9',
    ],
    ['a range of IPv6', '2001:db8:99::5', { forwarded: 'for=192.0.2.9' }, '192.0.2.9'],
    ['a port of IPv4', '10.0.0.1', { 'x-forwarded-for': '192.0.2.9:51000' }, '192.0.2.9'],
    ['IPv4 over an IPv6 socket', '::ffff:10.0.0.1', { 'x-forwarded-for': '::ffff:192.0.2.9' }, '192.0.2.9'],
    ['the proxy itself, when it hides whom it stands for', '10.0.0.1', { forwarded: 'for=unknown' }, '10.0.0.1'],
    ['the last that is known, when one of them hides', '10.0.0.1', { forwarded: 'for=_x, for=10.0.0.2' }, '10.0.0.2'],
    [
      'nobody that one of two headers made up',
      '10.0.0.1',
      { forwarded: 'for=203.0.113.1', 'x-forwarded-for': '192.0.2.9' },
      '10.0.0.1',
    ],
    ['whom both name', '10.0.0.1', { forwarded: 'for=192.0.2.9', 'x-forwarded-for': '192.0.2.9' }, '192.0.2.9'],
    ['the proxy, for nonsense', '10.0.0.1', { forwarded: '"', 'x-forwarded-for': '' }, '10.0.0.1'],
  ])('is %s', (_name, peer, headers, is) => expect(of(peer, headers)).toBe(is))

  test('costs no more than its size', () => {
    const long = `${'for="'.repeat(3_000)}, for=192.0.2.9`
    const startMs = performance.now()
    of('10.0.0.1', { forwarded: long })
    expect(performance.now() - startMs).toBeLessThan(2_000)
  })

  test('its proxies stand in the configuration, and what is no address is refused in words', () => {
    const { config } = loadConfig({ ZB_TRUSTED_PROXIES: '10.0.0.0/8, ::1' }, undefined)
    expect(config['http.trustedProxies']).toEqual(['10.0.0.0/8', '::1'])
    for (const wrong of ['10.0.0.0/33', '1.2.3', 'proxy.example'])
      expect(() => loadConfig({ ZB_TRUSTED_PROXIES: wrong }, undefined)).toThrow(/http\.trustedProxies/)
  })
})
