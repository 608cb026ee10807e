import type { Session } from '@zbell/contract'
import { Client } from '@zbell/contract/client'

let csrf = ''

/** The console's own client: same origin, by session cookie. */
export const api = new Client({ url: '', headers: (): Record<string, string> => (csrf ? { 'x-bell-csrf': csrf } : {}) })

export function rememberSession(session: Session): Session {
  csrf = session.csrf
  return session
}
