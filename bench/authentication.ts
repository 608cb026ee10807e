import { execFileSync, spawn } from 'node:child_process'
import { generateKeyPairSync, randomUUID } from 'node:crypto'
import { mkdtempSync, readFileSync, rmSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { createInterface } from 'node:readline'
import { rootCertificates } from 'node:tls'
import { fileURLToPath } from 'node:url'
import { declarativeMessage, encryptMessage, evaluator, gatewayProfile, utf8 } from '@zbell/core'
import { nodeCrypto } from '@zbell/service/crypto'
import type { JWK } from 'jose'
import type { Credential } from '../packages/service/src/credentials/credential.ts'
import type { Address, Sendable } from '../packages/service/src/engine/ports.ts'
import type { Protocol } from '../packages/service/src/gateways/kept-client.ts'
import { openProfileProtocol, openWebProtocol } from '../packages/service/src/gateways/open-protocol.ts'
import { ProfileProtocol } from '../packages/service/src/gateways/profile-protocol.ts'
import { readyProfile } from '../packages/service/src/gateways/ready-profile.ts'
import { anywhere } from '../packages/service/src/net/address-guard.ts'
import { openTransport } from '../packages/service/src/transport/open-transport.ts'
import { type Figure, figure } from './figure.ts'

const rounds = 20_000
const webRounds = 5_000
const warmUp = 2_000
const inFlight = 100

const notification: Sendable = {
  id: randomUUID(),
  content: { title: 'Storm tonight', body: 'Check before you leave.' },
  mode: 'show',
  urgency: 'normal',
  ttlSeconds: 3_600,
  expiresAtMs: Date.now() + 3_600_000,
}

/** Requests a second with each kind of authentication, beside the same requests with none. */
export async function authentication(): Promise<Figure[]> {
  const dir = mkdtempSync(join(tmpdir(), 'bell-bench-'))
  const client = selfSigned(dir)
  const gateway = fileURLToPath(new URL('bench-plain-gateway.mjs', import.meta.url))
  const child = spawn(process.execPath, [gateway, dir], { stdio: ['ignore', 'pipe', 'inherit'] })
  try {
    const line = await new Promise<string>((done) => createInterface({ input: child.stdout }).once('line', done))
    const { origin, caFile } = JSON.parse(line) as { origin: string; caFile: string }
    const http = { ca: [...rootCertificates, readFileSync(caFile, 'utf8')], timeoutMs: 10_000 }
    const figures: Figure[] = []
    for (const [kind, credential] of credentials(client)) {
      const profile = profileOf(kind)
      const ready = readyProfile(profile, { evaluate: evaluator(), guard: anywhere })
      const open = () => {
        const protocol = openProfileProtocol({
          ready,
          origins: [origin],
          credential,
          identifier: 'example.ferries',
          http,
        })
        if (typeof protocol === 'string') throw new Error(protocol)
        return protocol
      }
      const openNone = () =>
        new ProfileProtocol({
          ready,
          authorization: undefined,
          transport: openTransport(origin, http),
          identifier: 'example.ferries',
        })
      figures.push(await compared(`authentication-${kind}`, open, openNone, tokenAt, rounds))
    }
    figures.push(
      await compared(
        'authentication-vapid',
        () => web(http),
        () => bareWeb(origin, http),
        browserAt(origin),
        webRounds,
      ),
    )
    return figures
  } finally {
    child.kill('SIGTERM')
    rmSync(dir, { recursive: true, force: true })
  }
}

/** Alternates, since a machine's pace drifts. */
async function compared(
  name: string,
  open: () => Protocol,
  openNone: () => Protocol,
  addressAt: (i: number) => Address,
  times: number,
): Promise<Figure> {
  let [own, none] = [0, 0]
  for (let turn = 0; turn < 2; turn++) {
    none += await perSecond(openNone(), addressAt, times)
    own += await perSecond(open(), addressAt, times)
  }
  return figure(name, own / 2, 'requests/s', none / 2)
}

async function perSecond(protocol: Protocol, addressAt: (i: number) => Address, times: number): Promise<number> {
  const prepared = await protocol.prepare(notification)
  const run = async (count: number) => {
    let next = 0
    const client = async () => {
      while (next < count) {
        const outcome = await prepared.send(addressAt(next++))
        if (outcome.is !== 'accepted') throw new Error(`a request was not accepted: ${outcome.is}`)
      }
    }
    await Promise.all(Array.from({ length: inFlight }, client))
  }
  await run(warmUp)
  const startMs = performance.now()
  await run(times)
  const seconds = (performance.now() - startMs) / 1_000
  await protocol.close()
  return times / seconds
}

const tokenAt = (i: number): Address => ({ token: `token-${i}`, p256dh: null, auth: null })

function browserAt(origin: string): (i: number) => Address {
  const { publicKey } = nodeCrypto.p256KeyPair()
  const keys = { p256dh: Buffer.from(publicKey), auth: Buffer.from(nodeCrypto.randomBytes(16)) }
  return (i) => ({ token: `${origin}/push/${i}`, ...keys })
}

const profileOf = (kind: Kind) =>
  gatewayProfile.parse({
    profile: kind,
    platform: 'ios',
    origins: {},
    authentication: {
      kind,
      ...(kind === 'signed-token' ? { lifetimeSeconds: 3_600 } : kind === 'grant' ? { tokenPath: '/grants' } : {}),
    },
    request: {
      path: '/ring/{token}',
      body: '{ "ring": notification, "headline": content.title, "text": content.body }',
    },
    limits: { bodyBytes: 4_096 },
    answers: [{ status: 201, outcome: 'accepted' }],
  })

type Kind = 'signed-token' | 'grant' | 'client-certificate'

function credentials(client: Credential): [Kind, Credential][] {
  const p256 = generateKeyPairSync('ec', { namedCurve: 'P-256' }).privateKey.export({ format: 'jwk' }) as JWK
  const rsa = generateKeyPairSync('rsa', { modulusLength: 2_048 }).privateKey.export({ format: 'jwk' }) as JWK
  const named = { keyId: 'bench', issuer: 'bench' }
  return [
    ['signed-token', { kind: 'signing-key', jwk: p256, ...named }],
    ['grant', { kind: 'service-key', jwk: rsa, ...named, scope: 'bench' }],
    ['client-certificate', client],
  ]
}

function selfSigned(dir: string): Credential {
  const [key, cert] = [join(dir, 'client.key'), join(dir, 'client.pem')]
  const made = ['-x509', '-newkey', 'rsa:2048', '-nodes', '-keyout', key, '-out', cert, '-days', '2']
  execFileSync('openssl', ['req', ...made, '-subj', '/CN=example.ferries'], { stdio: 'ignore' })
  return { kind: 'client-certificate', key: readFileSync(key, 'utf8'), certificates: [readFileSync(cert, 'utf8')] }
}

type Http = { readonly ca: string[]; readonly timeoutMs: number }

function web(http: Http): Protocol {
  const jwk = generateKeyPairSync('ec', { namedCurve: 'P-256' }).privateKey.export({ format: 'jwk' }) as JWK
  const credential = { kind: 'vapid-key', jwk, subject: 'mailto:bell@merrow-sound.example' } as const
  const protocol = openWebProtocol(credential, {
    webOrigin: 'https://ferries.example',
    guard: anywhere,
    http,
    inFlight: 300,
  })
  if (typeof protocol === 'string') throw new Error(protocol)
  return protocol
}

/** The same encryption and the same request, without saying who asks. */
function bareWeb(origin: string, http: Http): Protocol {
  const connection = openTransport(origin, http)
  const message = declarativeMessage(notification.id, notification.content, 'show', 'https://ferries.example')
  const plaintext = utf8(JSON.stringify(message))
  const headers = { 'content-encoding': 'aes128gcm', 'content-type': 'application/octet-stream', ttl: '60' }
  return {
    trial: () => Promise.reject(new Error('nothing is looked at here')),
    backoffUntilMs: 0,
    close: () => connection.close(),
    prepare: async () => ({
      async send({ token, p256dh, auth }) {
        const body = encryptMessage(plaintext, { p256dh: p256dh!, auth: auth! }, nodeCrypto)
        const { status } = await connection.request({ method: 'POST', path: new URL(token).pathname, headers, body })
          .answer
        return status === 201 ? { is: 'accepted' } : { is: 'unavailable' }
      },
    }),
  }
}
