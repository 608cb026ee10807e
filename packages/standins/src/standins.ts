import { randomBytes } from 'node:crypto'
import { mkdirSync, readFileSync, writeFileSync } from 'node:fs'
import { join } from 'node:path'
import type { RehearsalPlan } from '@zbell/contract'
import { type CryptoPort, toBase64url } from '@zbell/core'
import type { ServicePlace } from '@zbell/kit/states'
import { type CryptoKey, exportJWK, exportPKCS8, generateKeyPair, importJWK, type JWK } from 'jose'
import { AccountAuthority } from './certificates/account-authority.ts'
import { type ServerCertificate, serverCertificate } from './certificates/authority.ts'
import { ControlServer } from './control/control-server.ts'
import { AndroidGateway, androidScope } from './gateways/android-gateway.ts'
import { IosGateway } from './gateways/ios-gateway.ts'
import { type KeptSubscription, PushService } from './gateways/push-service.ts'
import { TokenMint } from './gateways/tokens.ts'
import { HandsetRegistry } from './handsets/handset-registry.ts'
import type { HandsetState } from './handsets/handset-state.ts'
import { KeptFile } from './handsets/kept-file.ts'
import { NoPlace } from './handsets/no-place.ts'

/** What a platform's account would hold: the keys that the stand-ins know, and what a developer downloads of them. */
export type StandinAccount = {
  readonly tokenSecret: string
  readonly controlKey: string
  readonly ios: { readonly jwk: JWK; readonly keyId: string; readonly issuer: string }
  readonly android: {
    readonly jwk: JWK
    readonly keyId: string
    readonly issuer: string
    readonly scope: string
    readonly facts: { readonly project: string }
  }
  readonly web: { readonly jwk: JWK }
}

type KeptState = {
  readonly account: StandinAccount
  ports: { ios: number; android: number; push: number; control: number }
  subscriptions: readonly KeptSubscription[]
  handsets: HandsetState[]
  /** Where each app's handsets find the service. */
  places?: Record<string, ServicePlace>
}

export type Standins = {
  readonly account: StandinAccount
  readonly caFile: string
  /** What the Android account lets its owner download: JSON with the key in it. */
  readonly keyFile: string
  readonly ios: IosGateway
  readonly android: AndroidGateway
  readonly push: PushService
  readonly control: ControlServer
  readonly registry: HandsetRegistry
  readonly mints: { readonly ios: TokenMint; readonly android: TokenMint }
  /** Tells where an app's handsets find the service. */
  place(app: string, place: ServicePlace): void
  /** The service is at this address now, for all apps. */
  moveService(url: string): void
  /** Switches on the handsets that were put away, of the apps whose service is known. */
  restoreHandsets(): Promise<void>
  close(): Promise<void>
}

/**
 * Opens the stand-ins for the outside world in a folder that they keep: certificates, ports, keys, handsets.
 * @param profiles the folder with the gateway profiles of the stand-ins, for rehearsals
 */
export async function openStandins(given: { dir: string; crypto: CryptoPort; profiles: string }): Promise<Standins> {
  mkdirSync(given.dir, { recursive: true, mode: 0o700 })
  const file = join(given.dir, 'standins.json')
  const before = KeptFile.read<KeptState>(file)
  const account = withProject(before?.account ?? (await makeAccount()))
  const ports = before?.ports ?? { ios: 0, android: 0, push: 0, control: 0 }
  const certificate = serverCertificate(join(given.dir, 'certificates'))
  const mints = {
    ios: new TokenMint(`ios ${account.tokenSecret}`),
    android: new TokenMint(`android ${account.tokenSecret}`),
  }

  const places = new Map(Object.entries(before?.places ?? {}))
  const placeOf = (app: string): ServicePlace => {
    const place = places.get(app)
    if (!place) throw new NoPlace(`the handsets of ${app} do not know where the service is`)
    return place
  }

  const settle = (app: string, place: ServicePlace) => {
    places.set(app, place)
    kept.changed()
  }

  let push: PushService
  // Handsets that have not been switched on yet are kept as they were.
  let waiting = before?.handsets ?? []
  const kept = new KeptFile<KeptState>(file, () => ({
    account,
    ports,
    subscriptions: push.subscriptions,
    handsets: [...registry.states, ...waiting],
    places: Object.fromEntries(places),
  }))
  const registry = new HandsetRegistry({
    mints,
    push: () => push,
    crypto: given.crypto,
    place: placeOf,
    onChange: () => kept.changed(),
  })
  const handOver = registry.handOver.bind(registry)
  const plans = setInterval(() => registry.tick(), 1_000)

  push = new PushService(before?.subscriptions ?? [], () => kept.changed())
  const authority = AccountAuthority.in(join(given.dir, 'certificates'))
  const ios = new IosGateway(known(account.ios), mints.ios, handOver, authority.ca)
  const [androidKey] = known(account.android)
  const { project } = account.android.facts
  const android = new AndroidGateway({ key: androidKey!, project, mint: mints.android }, handOver)
  const control = await listenAll(ports, certificate, { ios, android, push }, (port) =>
    ControlServer.open({
      port,
      key: account.controlKey,
      registry,
      gateways: { ios, android, web: push },
      plan: rehearsalPlan(account, certificate.caFile, given.profiles, { ios, android, push }),
      vapidKey: applicationServerKeyOf(account.web.jwk),
      settle,
      authority,
    }),
  )

  const keyFile = join(given.dir, 'android-account.json')
  writeFileSync(keyFile, `${JSON.stringify(await androidKeyFile(account, android), null, 2)}\n`, { mode: 0o600 })
  return {
    account,
    caFile: certificate.caFile,
    keyFile,
    ios,
    android,
    push,
    control,
    registry,
    mints,
    place: settle,
    moveService(url) {
      for (const [app, place] of places) places.set(app, { ...place, url })
      kept.changed()
    },
    async restoreHandsets() {
      for (const state of waiting.filter((one) => places.has(one.app))) {
        await registry.restore(state)
        waiting = waiting.filter((one) => one !== state)
      }
    },
    async close() {
      clearInterval(plans)
      registry.close()
      kept.close()
      await Promise.all([control.close(), ios.listener.close(), android.listener.close(), push.listener.close()])
    },
  }
}

const androidFacts = { project: 'merrow-sound' }

/** An account that was kept before accounts had projects. */
const withProject = (account: StandinAccount): StandinAccount => ({
  ...account,
  android: { ...account.android, facts: account.android.facts ?? androidFacts },
})

/** The file in the form that the account's profile reads. */
async function androidKeyFile({ android }: StandinAccount, gateway: AndroidGateway) {
  const key = await importJWK(android.jwk, 'RS256', { extractable: true })
  return {
    account: { mail: android.issuer, project: android.facts.project },
    key: { number: android.keyId, pem: await exportPKCS8(key as CryptoKey) },
    grants: `${gateway.listener.origin}/grants`,
  }
}

/** The public half of a signing key, as a gateway knows it. */
const known = ({ keyId, issuer, jwk }: { keyId: string; issuer: string; jwk: JWK }) => [
  { kid: keyId, issuer, jwk: publicPart(jwk) },
]

/** Each on the port that it had before, or on one that it keeps from now on. @param openControl opens what comes last */
async function listenAll(
  ports: KeptState['ports'],
  certificate: ServerCertificate,
  { ios, android, push }: { ios: IosGateway; android: AndroidGateway; push: PushService },
  openControl: (port: number) => Promise<ControlServer>,
): Promise<ControlServer> {
  await onPort(ports.push, (port) => push.listen(certificate, port))
  await onPort(ports.ios, (port) => ios.listen(certificate, port))
  await onPort(ports.android, (port) => android.listen(certificate, port))
  const control = await onPort(ports.control, openControl)
  Object.assign(ports, {
    ios: ios.listener.port,
    android: android.listener.port,
    push: push.listener.port,
    control: control.port,
  })
  return control
}

/** What the service needs to rehearse: the stand-ins' own profiles and the credentials that they know. */
function rehearsalPlan(
  { ios, android, web }: StandinAccount,
  caFile: string,
  profiles: string,
  at: { ios: IosGateway; android: AndroidGateway; push: PushService },
): RehearsalPlan {
  const profile = (name: string) => readFileSync(join(profiles, `${name}.yaml`), 'utf8')
  return {
    ca: readFileSync(caFile, 'utf8'),
    ios: {
      origin: at.ios.listener.origin,
      profile: profile('standin-ios'),
      credential: { kind: 'signing-key', ...ios },
    },
    android: {
      origin: at.android.listener.origin,
      profile: profile('standin-android'),
      credential: {
        kind: 'service-key',
        jwk: android.jwk,
        keyId: android.keyId,
        issuer: android.issuer,
        scope: android.scope,
      },
      facts: android.facts,
    },
    web: {
      origin: at.push.listener.origin,
      credential: { kind: 'vapid-key', jwk: web.jwk, subject: 'mailto:handsets@localhost' },
    },
  }
}

/** RFC 8292 §3.2: the uncompressed point. */
function applicationServerKeyOf({ x = '', y = '' }: JWK): string {
  return toBase64url(Uint8Array.from([4, ...Buffer.from(x, 'base64url'), ...Buffer.from(y, 'base64url')]))
}

/** The port of last time, or another one when somebody else has it now. */
async function onPort<T>(port: number, open: (port: number) => Promise<T>): Promise<T> {
  try {
    return await open(port)
  } catch (error) {
    if ((error as NodeJS.ErrnoException).code !== 'EADDRINUSE' || port === 0) throw error
    return open(0)
  }
}

async function makeAccount(): Promise<StandinAccount> {
  const p256 = async () => exportJWK((await generateKeyPair('ES256', { extractable: true })).privateKey)
  const rsa = exportJWK((await generateKeyPair('RS256', { extractable: true })).privateKey)
  return {
    tokenSecret: randomBytes(24).toString('base64url'),
    controlKey: randomBytes(24).toString('base64url'),
    ios: { jwk: await p256(), keyId: 'QUAY7LAMP2', issuer: 'MERROW-SOUND' },
    android: {
      jwk: await rsa,
      keyId: 'signal-key-1',
      issuer: 'bell@merrow-sound.example',
      scope: androidScope,
      facts: androidFacts,
    },
    web: { jwk: await p256() },
  }
}

const publicPart = ({ kty, crv, x, y, n, e }: JWK): JWK => JSON.parse(JSON.stringify({ kty, crv, x, y, n, e })) as JWK
