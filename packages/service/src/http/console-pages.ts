import { randomBytes } from 'node:crypto'
import { readFileSync } from 'node:fs'
import { join } from 'node:path'
import express, { type RequestHandler, type Response } from 'express'
import helmet from 'helmet'

/** Stands in the console's page where the nonce of each answer belongs. */
const noncePlaceholder = '__CSP_NONCE__'

/** A nonce of this answer's own: 128 bits, as CSP Level 3 §7.1 wants at least. */
const nonceOf = (response: Response): string => (response.locals.cspNonce ??= randomBytes(16).toString('base64'))

/** What a browser may do with the pages that are served here. */
export const securityHeaders = (isSecure: boolean): RequestHandler =>
  helmet({
    contentSecurityPolicy: {
      useDefaults: false,
      directives: {
        defaultSrc: ["'none'"],
        scriptSrc: ["'self'"],
        // Some parts of the page write a style of their own; whatever else does is refused (CSP Level 3 §8.2).
        styleSrc: ["'self'", (_request, response) => `'nonce-${nonceOf(response as Response)}'`],
        imgSrc: ["'self'", 'data:'],
        fontSrc: ["'self'"],
        connectSrc: ["'self'"],
        frameAncestors: ["'none'"],
        baseUri: ["'none'"],
        formAction: ["'none'"],
      },
    },
    crossOriginResourcePolicy: { policy: 'cross-origin' },
    referrerPolicy: { policy: 'no-referrer' },
    // The operator says by the public address whether people come by https (RFC 6797 §7.2).
    strictTransportSecurity: isSecure && { maxAge: 31_536_000, includeSubDomains: false },
  })

/** Serves the console's files; whatever is no file is its page, which finds its way by the address. */
export function serveConsole(app: express.Express, dir: string): void {
  const page = readFileSync(join(dir, 'index.html'), 'utf8')
  app.use(
    '/assets',
    express.static(join(dir, 'assets'), { immutable: true, maxAge: '1y', index: false, fallthrough: true }),
  )
  app.use(express.static(dir, { index: false, maxAge: '1h' }))
  app.get(/^\/(?!v1\/|assets\/).*/, (request, response, next) => {
    if (!request.accepts('html')) return next()
    // A page that came from a cache would bring a nonce that its answer's policy does not know.
    response.setHeader('Cache-Control', 'no-store')
    response.type('html').send(page.replaceAll(noncePlaceholder, nonceOf(response)))
  })
}
