import type { Session } from '@zbell/contract'
import { type FormEvent, useEffect, useState } from 'react'
import { api, rememberSession } from '../app/api.ts'
import { Button } from '../parts/button.tsx'
import { Failure } from '../parts/page.tsx'

type SignInProps = {
  readonly onSession: (session: Session) => void
  /** Why one is asked, where it is not the beginning. */
  readonly note?: string
}

/** Signs in with address and password, or by itself with a link whose secret stands behind the #. */
export function SignInPage({ onSession, note }: SignInProps) {
  const [failure, setFailure] = useState<unknown>()
  const [busy, setBusy] = useState(false)

  const signIn = async (body: { email: string; password: string } | { link: string }) => {
    setBusy(true)
    setFailure(undefined)
    try {
      onSession(rememberSession(await api.call('signIn', { body })))
    } catch (error) {
      setFailure(error)
    } finally {
      setBusy(false)
    }
  }

  // biome-ignore lint/correctness/useExhaustiveDependencies: a link is tried once, when the page opens
  useEffect(() => {
    const link = location.hash.slice(1)
    if (!link) return
    // The secret leaves the address bar before anything else happens with it.
    history.replaceState(null, '', location.pathname)
    void signIn({ link })
  }, [])

  const submit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault()
    const form = new FormData(event.currentTarget)
    void signIn({ email: String(form.get('email')), password: String(form.get('password')) })
  }

  return (
    <main className="dusk grid min-h-dvh place-items-center bg-ground px-5 text-ink">
      <form onSubmit={submit} className="w-full max-w-sm">
        <img src="/bell.svg" alt="" width="48" height="48" className="mb-5" />
        <h1>Zephyr Bell</h1>
        <p className="mb-8 text-soft">{note ?? 'Sign in to the console.'}</p>
        <label htmlFor="email">E-mail</label>
        <input id="email" name="email" type="email" required autoComplete="username" className="mb-4" />
        <label htmlFor="password">Password</label>
        <input
          id="password"
          name="password"
          type="password"
          required
          autoComplete="current-password"
          className="mb-6"
        />
        <Button rank="primary" type="submit" disabled={busy} className="w-full">
          {busy ? 'Signing in …' : 'Sign in'}
        </Button>
        <div className="mt-5">{failure !== undefined && <Failure error={failure} />}</div>
      </form>
    </main>
  )
}
