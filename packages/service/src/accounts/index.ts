export { serveSessions } from './routes.ts'
export { cookie, csrfOf, sessionCookieName } from './session-cookies.ts'
export { findSession, pruneSessions } from './store/sessions.ts'
