import { createHash } from 'node:crypto'
import { parseCookie } from 'cookie'
import type { Request } from 'express'

/** Under https no other host of the same site can set it (RFC 6265bis §4.1.3.2). */
export const browserCookieName = (isSecure: boolean): string => (isSecure ? '__Host-bell_browser' : 'bell_browser')
export const sessionCookieName = (isSecure: boolean): string => (isSecure ? '__Host-bell_session' : 'bell_session')

/** What the console's pages send back: whoever cannot read the session's answer cannot know it. */
export const csrfOf = (sessionToken: string): string =>
  createHash('sha256').update(`csrf:${sessionToken}`).digest('base64url')

/** A cookie of a request (RFC 6265 §5.4). */
export const cookie = (request: Request, name: string): string | undefined =>
  parseCookie(request.get('cookie') ?? '')[name]
