import { execFileSync } from 'node:child_process'
import { mkdtempSync, readFileSync, rmSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { afterAll, beforeAll } from '@jest/globals'
import { recognise } from '../src/credentials/recognise.ts'
import { CredentialRefused, type RefusalCode } from '../src/credentials/refusals.ts'

let dir: string
export const at = (name: string) => join(dir, name)
export const file = (name: string) => readFileSync(at(name))
export const openssl = (...args: string[]) => execFileSync('openssl', args, { cwd: dir, stdio: 'pipe' })
export const pass = 'gull & tern'
/** A minute after they were made. */
export let now: Date

/** Makes keys, certificates and what holds them by another hand's program, before the tests of a file. */
export function makeKeyFiles(): void {
  beforeAll(makeAll)
  afterAll(() => rmSync(dir, { recursive: true }))
}

function makeAll(): void {
  dir = mkdtempSync(join(tmpdir(), 'bell-keys-'))
  openssl(
    'req',
    '-x509',
    '-newkey',
    'rsa:2048',
    '-nodes',
    '-keyout',
    'ca.key',
    '-out',
    'ca.pem',
    '-days',
    '30',
    '-subj',
    '/CN=Harbour authority',
  )
  openssl(
    'req',
    '-newkey',
    'rsa:2048',
    '-nodes',
    '-keyout',
    'rsa.key',
    '-out',
    'rsa.csr',
    '-subj',
    '/CN=example.ferries/O=Merrow Sound',
  )
  openssl(
    'x509',
    '-req',
    '-in',
    'rsa.csr',
    '-CA',
    'ca.pem',
    '-CAkey',
    'ca.key',
    '-CAcreateserial',
    '-days',
    '20',
    '-out',
    'rsa.pem',
  )
  openssl('ecparam', '-name', 'prime256v1', '-genkey', '-noout', '-out', 'ec-sec1.key')
  openssl('pkcs8', '-topk8', '-nocrypt', '-in', 'ec-sec1.key', '-out', 'ec.key')
  openssl('req', '-x509', '-key', 'ec.key', '-out', 'ec.pem', '-days', '20', '-subj', '/CN=example.ferries.ec')
  openssl('ecparam', '-name', 'secp384r1', '-genkey', '-noout', '-out', 'p384.key')
  openssl('genrsa', '-out', 'short.key', '1024')
  openssl('genpkey', '-algorithm', 'ed25519', '-out', 'ed.key')
  for (const [name, ...how] of [
    ['modern', '-keypbe', 'AES-256-CBC', '-certpbe', 'AES-256-CBC', '-macalg', 'sha256'],
    ['old', '-legacy', '-keypbe', 'PBE-SHA1-3DES', '-certpbe', 'PBE-SHA1-RC2-40', '-macalg', 'sha1'],
  ] as const) {
    for (const kind of ['rsa', 'ec'] as const) {
      openssl(
        'pkcs12',
        '-export',
        '-in',
        `${kind}.pem`,
        '-inkey',
        `${kind}.key`,
        '-out',
        `${kind}-${name}.p12`,
        '-passout',
        `pass:${pass}`,
        ...how,
      )
      openssl(
        'pkcs12',
        '-export',
        '-in',
        `${kind}.pem`,
        '-inkey',
        `${kind}.key`,
        '-out',
        `${kind}-${name}-empty.p12`,
        '-passout',
        'pass:',
        ...how,
      )
    }
  }
  openssl(
    'pkcs12',
    '-export',
    '-in',
    'rsa.pem',
    '-inkey',
    'rsa.key',
    '-certfile',
    'ca.pem',
    '-out',
    'chain.p12',
    '-passout',
    `pass:${pass}`,
  )
  openssl('pkcs12', '-export', '-in', 'rsa.pem', '-nokeys', '-out', 'certificate-only.p12', '-passout', `pass:${pass}`)
  openssl('pkcs8', '-topk8', '-in', 'rsa.key', '-out', 'rsa-encrypted.key', '-passout', `pass:${pass}`)
  openssl(
    'pkcs8',
    '-topk8',
    '-in',
    'rsa.key',
    '-outform',
    'DER',
    '-out',
    'rsa-encrypted.der',
    '-passout',
    `pass:${pass}`,
  )
  openssl('rsa', '-in', 'rsa.key', '-traditional', '-des3', '-out', 'rsa-older.key', '-passout', `pass:${pass}`)
  openssl('x509', '-in', 'rsa.pem', '-outform', 'DER', '-out', 'rsa.der')
  openssl('pkcs8', '-topk8', '-nocrypt', '-in', 'rsa.key', '-outform', 'DER', '-out', 'rsa-key.der')
  openssl('req', '-in', 'rsa.csr', '-outform', 'DER', '-out', 'csr.der')
  openssl('pkey', '-in', 'ec.key', '-pubout', '-out', 'ec.pub')
  openssl('pkey', '-in', 'ec.key', '-pubout', '-outform', 'DER', '-out', 'ec-pub.der')
  now = new Date(Date.now() + 60_000)
}

export const look = (names: string[], passphrase?: string, platform: 'ios' | 'web' = 'ios') =>
  recognise(names.map(file), passphrase, platform, now)
export const text = (content: string) => recognise([Buffer.from(content)], undefined, 'ios', now)
export const refusalOf = async (looked: Promise<unknown>): Promise<RefusalCode | 'taken'> =>
  looked.then(
    () => 'taken',
    (error: unknown) => {
      if (error instanceof CredentialRefused) return error.code
      throw error
    },
  )
