import type { Session } from '@zbell/contract'
import type { Response } from 'express'
import type { Logger } from 'pino'
import { type Api, callerAddress, type RateLimits } from '../api/index.ts'
import { appView, everyApp } from '../apps/index.ts'
import { invalid, Problem } from '../base/index.ts'
import { type AccountRow, type Database, isDuplicate } from '../database/index.ts'
import { hashPassword, hashSecret, newSecret, passwordFits } from '../vault/index.ts'
import { isCommonPassword } from './common-passwords.ts'
import { browserCookieName, cookie, csrfOf, sessionCookieName } from './session-cookies.ts'
import { createAccount, findAccount } from './store/accounts.ts'
import {
  createSession,
  createSignInLink,
  deleteSession,
  isKnownBrowser,
  keepBrowser,
  useSignInLink,
} from './store/sessions.ts'
import { WrongTries } from './wrong-tries.ts'

const sessionMs = 12 * 3_600_000
const linkMs = 3_600_000
/** How long a browser is remembered in which somebody has signed in. */
const browserMs = 180 * 86_400_000

/** @param log is called with each wrong password: for whom, from where, and how many there were in a row */
export function serveSessions(api: Api, database: Database, limits: RateLimits, secure: boolean, log: Logger): void {
  const wrongTries = new WrongTries()
  const browserCookie = browserCookieName(secure)
  const isKnown = async (email: string, { req }: Response): Promise<boolean> => {
    const browser = cookie(req, browserCookie)
    return browser !== undefined && isKnownBrowser(database, hashSecret(browser), email)
  }
  const byPassword = async (email: string, password: string, response: Response) => {
    const address = callerAddress(response)
    const check = () => accountOf(database, email, password)
    // Guessing slows down the address that guesses; it must not lock out the owner of the account.
    const { found, wrong } = (await isKnown(email, response))
      ? { found: await check(), wrong: undefined }
      : await wrongTries.at(`${email.toLowerCase()} ${address}`, check)
    if (!found) log.warn({ account: email, address, wrong }, 'a password was wrong')
    return found
  }
  const rememberBrowser = async ({ no, email }: AccountRow, response: Response): Promise<void> => {
    if (await isKnown(email, response)) return
    const browser = newSecret('browser')
    const expiresAt = new Date(Date.now() + browserMs)
    await keepBrowser(database, { hash: hashSecret(browser), accountNo: no, expiresAt })
    setCookie(response, browserCookie, browser, secure, browserMs)
  }

  const sessionView = async (account: AccountRow, csrf: string): Promise<Session> => ({
    account: { email: account.email, name: account.name, role: account.role },
    csrf,
    apps: (await everyApp(database)).map(appView),
  })

  api.serve(
    'signIn',
    async ({ body, response }) => {
      const now = new Date()
      const account =
        'link' in body
          ? await useSignInLink(database, hashSecret(body.link), now)
          : await byPassword(body.email, body.password, response)
      if (!account) throw new Problem('sign-in-refused')
      const token = newSecret('session')
      const expiresAt = new Date(now.getTime() + sessionMs)
      await createSession(database, { hash: hashSecret(token), accountNo: account.no, expiresAt })
      setCookie(response, sessionCookieName(secure), token, secure, sessionMs)
      await rememberBrowser(account, response)
      return sessionView(account, csrfOf(token))
    },
    limits.signIns,
  )

  api.serve('readSession', ({ caller }) => sessionView(caller.account, caller.csrf))

  api.serve('signOut', async ({ caller, response }) => {
    await deleteSession(database, caller.sessionHash)
    response.clearCookie(sessionCookieName(secure), { path: '/', secure })
    return undefined
  })

  api.serve('makeAccount', async ({ body }) => {
    const { password, ...account } = body
    if (await isCommonPassword(password)) throw invalid('/password', 'is among those that are guessed first')
    const row = { ...account, passwordHash: await hashPassword(password), createdAt: new Date() }
    try {
      await createAccount(database, row)
    } catch (error) {
      if (isDuplicate(error, 'email')) throw new Problem('account-exists')
      throw error
    }
    return account
  })

  api.serve('makeSignInLink', async ({ body }) => {
    const account = await findAccount(database, body.email)
    if (!account)
      throw new Problem('invalid-request', 'There is no account with this address.', [
        { pointer: '/email', detail: 'is not an account' },
      ])
    const link = newSecret('link')
    const expiresAt = new Date(Date.now() + linkMs)
    await createSignInLink(database, { hash: hashSecret(link), accountNo: account.no, expiresAt })
    return { link, expiresAt: expiresAt.toISOString() }
  })
}

/** Takes as long for an address that nobody has, so that nobody learns which have an account. */
let nobodysHash: Promise<string> | undefined

async function accountOf(database: Database, email: string, password: string): Promise<AccountRow | undefined> {
  nobodysHash ??= hashPassword('nobody')
  const account = await findAccount(database, email)
  const fits = await passwordFits(password, account?.passwordHash ?? (await nobodysHash))
  return fits ? account : undefined
}

function setCookie(response: Response, name: string, token: string, secure: boolean, maxAge: number): void {
  response.cookie(name, token, {
    httpOnly: true,
    sameSite: 'strict',
    secure,
    path: '/',
    maxAge,
  })
}
