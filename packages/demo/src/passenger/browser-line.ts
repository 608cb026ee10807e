/**
 * What the browser's maker gives a browser: a push subscription, and a line on which encrypted messages come in.
 * A page on one machine without a network has no such maker, so this stands in for it, with real keys and real RFC 8291.
 */
type KeptLine = {
  readonly id: string
  readonly endpoint: string
  readonly publicKey: string
  readonly privateKey: JsonWebKey
  readonly auth: string
}

const keptAs = 'stand-in-line'
const p256 = { name: 'ECDH', namedCurve: 'P-256' } as const

export async function subscribeAtStandIn(
  registration: ServiceWorkerRegistration,
  applicationServerKey: string,
): Promise<PushSubscriptionJSON> {
  const line = readLine() ?? (await openLine(applicationServerKey))
  listen(line, registration)
  return { endpoint: line.endpoint, expirationTime: null, keys: { p256dh: line.publicKey, auth: line.auth } }
}

const readLine = (): KeptLine | undefined => JSON.parse(localStorage.getItem(keptAs) ?? 'null') ?? undefined

async function openLine(applicationServerKey: string): Promise<KeptLine> {
  const keys = await crypto.subtle.generateKey(p256, true, ['deriveBits'])
  const answer = await fetch('/line', {
    method: 'POST',
    headers: { 'content-type': 'application/json' },
    body: JSON.stringify({ applicationServerKey }),
  })
  const { id, endpoint } = (await answer.json()) as { id: string; endpoint: string }
  const line: KeptLine = {
    id,
    endpoint,
    publicKey: toText(new Uint8Array(await crypto.subtle.exportKey('raw', keys.publicKey))),
    privateKey: await crypto.subtle.exportKey('jwk', keys.privateKey),
    auth: toText(crypto.getRandomValues(new Uint8Array(16))),
  }
  localStorage.setItem(keptAs, JSON.stringify(line))
  return line
}

let listening = false

function listen(line: KeptLine, registration: ServiceWorkerRegistration): void {
  if (listening) return
  listening = true
  const source = new EventSource(`/line/${line.id}`)
  source.onmessage = async ({ data }) => {
    const message = await decrypt(fromText(String(data)), line)
    const worker = registration.active ?? (await navigator.serviceWorker.ready).active
    worker?.postMessage({ standInPush: message })
  }
}

/** The browser's side of RFC 8291 §3.4, by WebCrypto. */
async function decrypt(body: Uint8Array<ArrayBuffer>, line: KeptLine): Promise<string> {
  const salt = body.slice(0, 16)
  const senderKey = body.slice(21, 86)
  const mine = await crypto.subtle.importKey('jwk', line.privateKey, p256, false, ['deriveBits'])
  const theirs = await crypto.subtle.importKey('raw', senderKey, p256, false, [])
  const agreed = new Uint8Array(await crypto.subtle.deriveBits({ name: 'ECDH', public: theirs }, mine, 256))
  const info = join(bytes('WebPush: info\0'), fromText(line.publicKey), senderKey)
  const ikm = await hkdf(agreed, fromText(line.auth), info, 32)
  const key = await hkdf(ikm, salt, bytes('Content-Encoding: aes128gcm\0'), 16)
  const iv = await hkdf(ikm, salt, bytes('Content-Encoding: nonce\0'), 12)
  const aes = await crypto.subtle.importKey('raw', key, 'AES-GCM', false, ['decrypt'])
  const padded = new Uint8Array(await crypto.subtle.decrypt({ name: 'AES-GCM', iv }, aes, body.slice(86)))
  return new TextDecoder().decode(padded.slice(0, padded.lastIndexOf(2)))
}

async function hkdf(
  secret: Uint8Array<ArrayBuffer>,
  salt: Uint8Array<ArrayBuffer>,
  info: Uint8Array<ArrayBuffer>,
  length: number,
) {
  const key = await crypto.subtle.importKey('raw', secret, 'HKDF', false, ['deriveBits'])
  return new Uint8Array(await crypto.subtle.deriveBits({ name: 'HKDF', hash: 'SHA-256', salt, info }, key, length * 8))
}

const bytes = (text: string): Uint8Array<ArrayBuffer> => new TextEncoder().encode(text)
const join = (...parts: Uint8Array[]): Uint8Array<ArrayBuffer> => Uint8Array.from(parts.flatMap((part) => [...part]))
const toText = (raw: Uint8Array): string =>
  btoa(String.fromCharCode(...raw))
    .replaceAll('+', '-')
    .replaceAll('/', '_')
    .replace(/=+$/, '')
const fromText = (text: string): Uint8Array<ArrayBuffer> =>
  Uint8Array.from(atob(text.replaceAll('-', '+').replaceAll('_', '/')), (letter) => letter.charCodeAt(0))
