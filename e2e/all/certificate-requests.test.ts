import { execFileSync } from 'node:child_process'
import { mkdirSync, readFileSync, writeFileSync } from 'node:fs'
import { createSecureServer } from 'node:http2'
import type { AddressInfo } from 'node:net'
import { join } from 'node:path'
import { TLSSocket } from 'node:tls'
import { afterAll, beforeAll, describe, expect, test } from '@jest/globals'
import type { Credential } from '@zbell/contract'
import { serverCertificate } from '@zbell/standins'
import { until } from '../harness/programs.ts'
import { World } from '../harness/world.ts'

let world: World
let dir: string
const openssl = (...args: string[]) => execFileSync('openssl', args, { cwd: dir, stdio: 'pipe' })
const asFile = (name: string) => ({ name, content: readFileSync(join(dir, name)).toString('base64') })

beforeAll(async () => {
  world = await World.open()
  dir = join(world.data, 'keys')
  mkdirSync(dir)
  const made = ['-x509', '-newkey', 'rsa:2048', '-nodes', '-keyout', 'ca.key', '-out', 'ca.pem', '-days', '30']
  openssl('req', ...made, '-subj', '/CN=Harbour authority')
})
afterAll(() => world.close())

describe('a certificate without leaving the product', () => {
  test('the key stays here, several requests are open, and a certificate finds its own; it opens the connection', async () => {
    const heard: string[] = []
    const certificate = serverCertificate(join(world.data, 'standins/certificates'))
    const gateway = createSecureServer({
      cert: certificate.cert,
      key: certificate.key,
      ca: readFileSync(join(dir, 'ca.pem')),
      requestCert: true,
      rejectUnauthorized: true,
    })
    gateway.on('stream', (stream) => {
      const socket = stream.session?.socket
      if (socket instanceof TLSSocket) heard.push(String(socket.getPeerCertificate().subject?.CN))
      stream.respond({ ':status': 200 }, { endStream: true })
    })
    await new Promise<void>((done) => gateway.listen(0, '127.0.0.1', done))
    writeFileSync(
      join(dir, 'profile.yaml'),
      'profile: by-certificate\nplatform: ios\norigins: {}\nauthentication: { kind: client-certificate }\nrequest: { path: "/{token}", body: "{}" }\nlimits: { bodyBytes: 4096 }\nanswers: [{ status: 200, outcome: accepted }]\n',
    )
    const second = await world.startSecond({
      ZB_GATEWAY_IOS_PROFILE: join(dir, 'profile.yaml'),
      ZB_GATEWAY_IOS_ORIGIN: `https://127.0.0.1:${(gateway.address() as AddressInfo).port}`,
    })
    try {
      await world.makeApp('gull-air')
      const call = async <T>(method: string, path: string, key: string, body?: object): Promise<T> => {
        const headers = { authorization: `Bearer ${key}`, 'content-type': 'application/json' }
        const answer = await fetch(`${second.url}/v1${path}`, {
          method,
          headers,
          ...(body ? { body: JSON.stringify(body) } : {}),
        })
        return (await answer.json()) as T
      }
      const [backend, appKey] = [await world.makeKey('gull-air', 'backend'), await world.makeKey('gull-air', 'app')]
      const at = '/apps/gull-air/credentials'
      type Made = { credential: Credential; request: string }
      const requests = [
        await call<Made>('POST', `${at}/requests`, backend, { platform: 'ios', commonName: 'gull-air.one' }),
        await call<Made>('POST', `${at}/requests`, backend, { platform: 'ios', commonName: 'gull-air.two' }),
      ]
      expect(requests.map(({ credential }) => credential.state)).toEqual(['requested', 'requested'])
      expect((await call<{ code: string }>('POST', `${at}/${requests[0]!.credential.id}/use`, backend)).code).toBe(
        'credential-not-ready',
      )
      writeFileSync(join(dir, 'two.csr'), requests[1]!.request)
      openssl(
        'x509',
        '-req',
        '-in',
        'two.csr',
        '-CA',
        'ca.pem',
        '-CAkey',
        'ca.key',
        '-CAcreateserial',
        '-days',
        '20',
        '-outform',
        'DER',
        '-out',
        'two.der',
      )
      const married = await call<Credential>('POST', at, backend, { platform: 'ios', files: [asFile('two.der')] })
      expect(married).toMatchObject({
        id: requests[1]!.credential.id,
        state: 'in-use',
        kind: 'client-certificate',
        subject: 'CN=gull-air.two',
      })
      await call('POST', '/devices', appKey, {
        platform: 'ios',
        token: 'a-token-of-gull-air-0001',
        permission: 'granted',
      })
      // The first process has no such profile, and would claim the work as readily.
      await world.killService()
      const { id } = await call<{ id: string }>('POST', '/apps/gull-air/notifications', backend, {
        to: { any: ['everyone'] },
        content: { title: 'T' },
      })
      await until(
        () => call<{ state: string }>('GET', `/apps/gull-air/notifications/${id}`, backend),
        ({ state }) => state === 'finished',
      )
      type Totals = { totals: { accepted: number } }
      const { totals } = await call<Totals>('GET', `/apps/gull-air/notifications/${id}`, backend)
      // The ring, and before it the check that follows putting a credential in use.
      expect([totals.accepted, [...new Set(heard)]]).toEqual([1, ['gull-air.two']])
    } finally {
      await second.stop()
      gateway.close()
      await world.startService()
    }
  })
})
