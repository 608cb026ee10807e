import { readFileSync, statSync } from 'node:fs'
import { createServer, type RequestListener, type Server } from 'node:http'
import { createServer as createTlsServer, type Server as TlsServer } from 'node:https'
import { createSecureContext } from 'node:tls'
import type { Logger } from 'pino'
import { type Config, ConfigError } from '../base/index.ts'

/** Heads of requests have to be here after so long. */
const headWithinMs = 10_000
/** How often it is looked for those that are late. */
const looksEveryMs = 5_000
/** A connection on which nothing moves, in either direction, is ended after so long. */
const standsStillMs = 120_000
/**
 * Longer than proxies keep theirs, so that the caller closes first (RFC 9112, 9.5); and far longer than this process may be
 * kept from the processor: a connection on which a request is already waiting would look idle after that, and be closed on it.
 */
const idleConnectionMs = 75_000
const certificateLookMs = 5_000

export const scheme = (config: Config): 'http' | 'https' => (config['http.tls.cert'] === '' ? 'http' : 'https')

/** The server, with TLS of its own where the configuration names a certificate. @throws {ConfigError} */
export function openServer(
  listener: RequestListener,
  config: Config,
  log: Logger,
): { readonly server: Server; close(): void } {
  const bounds = { connectionsCheckingInterval: looksEveryMs, headersTimeout: headWithinMs }
  const files = { cert: config['http.tls.cert'], key: config['http.tls.key'] }
  if ((files.cert === '') !== (files.key === ''))
    throw new ConfigError('http.tls.cert, http.tls.key: one was given without the other')
  const isTls = files.cert !== ''
  const server = isTls ? createTlsServer({ ...bounds, ...pairIn(files) }, listener) : createServer(bounds, listener)
  // A file may take long to come in; every other body has a deadline of its own.
  server.requestTimeout = 0
  server.timeout = standsStillMs
  server.keepAliveTimeout = idleConnectionMs
  const watch = isTls ? watchCertificate(server as TlsServer, files, log) : undefined
  return { server, close: () => clearInterval(watch) }
}

type Files = { readonly cert: string; readonly key: string }

/** @throws {ConfigError} for files that cannot be read, or do not belong together */
function pairIn(files: Files): { readonly cert: Buffer; readonly key: Buffer; readonly minVersion: 'TLSv1.2' } {
  try {
    const pair = { cert: readFileSync(files.cert), key: readFileSync(files.key), minVersion: 'TLSv1.2' as const }
    createSecureContext(pair)
    return pair
  } catch (error) {
    throw new ConfigError(`http.tls.cert ${files.cert}, http.tls.key ${files.key}: ${(error as Error).message}`)
  }
}

/** Who renews a certificate writes two files: until both belong together, the pair before stays. */
function watchCertificate(server: TlsServer, files: Files, log: Logger): NodeJS.Timeout {
  const stamp = () => [files.cert, files.key].map((file) => statSync(file).mtimeMs).join(' ')
  let seen = stamp()
  return setInterval(() => {
    let now = seen
    try {
      now = stamp()
      if (now === seen) return
      server.setSecureContext(pairIn(files))
      log.info({ cert: files.cert }, 'another certificate is in use')
    } catch (err) {
      log.warn({ err }, 'the changed certificate cannot be used; the one before stays')
    }
    seen = now
  }, certificateLookMs).unref()
}

/** Nobody takes all connections: there are so many in all, and so many for one address that connects. */
export function boundConnections(server: Server, config: Config, isTrusted: (address: string) => boolean): void {
  const maxOfOne = config['http.maxConnectionsOfAddress']
  const open = new Map<string, number>()
  server.maxConnections = config['http.maxConnections']
  server.on('connection', (socket) => {
    const address = socket.remoteAddress ?? ''
    if (isTrusted(address)) return
    const count = (open.get(address) ?? 0) + 1
    if (count > maxOfOne) {
      socket.destroy()
      return
    }
    open.set(address, count)
    socket.once('close', () => {
      const left = (open.get(address) ?? 1) - 1
      if (left === 0) open.delete(address)
      else open.set(address, left)
    })
  })
}

/** Says once what an operator would want to know of the proxy that requests come through. */
export function proxyWatch(log: Logger, publicUrl: string): (isTrusted: boolean, address: string) => void {
  let saidUntrusted = false
  let saidMissing = false
  return (isTrusted, address) => {
    if (!isTrusted && !saidUntrusted) {
      saidUntrusted = true
      log.warn(
        { address },
        'requests say that they come through a proxy; unless http.trustedProxies names it, all who do share its limits',
      )
    }
    if (publicUrl === '' && !saidMissing) {
      saidMissing = true
      log.warn('requests come through a proxy, and http.publicUrl is missing: links and cookies are made for this port')
    }
  }
}
