import type { Session } from '@zbell/contract'
import { useCallback, useEffect, useMemo, useState } from 'react'
import { Failure, Waiting } from '../parts/page.tsx'
import { SignInPage } from '../sign-in/sign-in-page.tsx'
import { api, rememberSession } from './api.ts'
import { isSignedOut } from './failures.ts'
import { Frame } from './frame.tsx'
import { queries } from './queries.ts'
import { SessionContext } from './session.ts'

type Watch =
  | { readonly is: 'asking' }
  | { readonly is: 'out' }
  /** `again`: the session ended while somebody was at work; the page waits behind, as it was. */
  | { readonly is: 'in'; readonly session: Session; readonly again: boolean }
  | { readonly is: 'lost'; readonly error: unknown }

/** Who is on watch: nobody yet, somebody, or somebody whose session has ended in the middle of their work. */
export function WatchRoot() {
  const [watch, setWatch] = useState<Watch>({ is: 'asking' })
  const refresh = useCallback(
    () =>
      api.call('readSession', {}).then(
        (session) => setWatch({ is: 'in', session: rememberSession(session), again: false }),
        (error: unknown) => setWatch(isSignedOut(error) ? { is: 'out' } : { is: 'lost', error }),
      ),
    [],
  )
  useEffect(() => void refresh(), [refresh])
  useEffect(() => onSignedOut(() => setWatch((now) => (now.is === 'in' ? { ...now, again: true } : now))), [])
  const session = watch.is === 'in' ? watch.session : undefined
  const hold = useMemo(() => session && { session, refresh }, [session, refresh])
  switch (watch.is) {
    case 'asking':
      return (
        <div className="p-10">
          <Waiting />
        </div>
      )
    case 'lost':
      return (
        <main className="p-10">
          <Failure error={watch.error} onAgain={() => void refresh()} />
        </main>
      )
    case 'out':
      return <SignInPage onSession={(now) => setWatch({ is: 'in', session: now, again: false })} />
    case 'in':
      return (
        <SessionContext.Provider value={hold}>
          <div inert={watch.again}>
            <Frame />
          </div>
          {watch.again && (
            <div className="fixed inset-0 z-60 overflow-y-auto">
              <SignInPage
                note="Your session has ended. What you were at is kept behind this page."
                onSession={(now) => {
                  setWatch({ is: 'in', session: now, again: false })
                  void queries.invalidateQueries()
                }}
              />
            </div>
          )}
        </SessionContext.Provider>
      )
    default:
      return watch satisfies never
  }
}

/** Hears when any question is answered with “sign in”. @returns ends it */
function onSignedOut(listener: () => void): () => void {
  const stops = [
    queries.getQueryCache().subscribe((event) => {
      if (event.type === 'updated' && event.action.type === 'error' && isSignedOut(event.action.error)) listener()
    }),
    queries.getMutationCache().subscribe((event) => {
      if (event.type === 'updated' && event.action.type === 'error' && isSignedOut(event.action.error)) listener()
    }),
  ]
  return () => {
    for (const stop of stops) stop()
  }
}
