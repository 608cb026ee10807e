import type { Session } from '@zbell/contract'
import { createContext, useContext } from 'react'

/** Who is signed in, and how to read that anew when an app was made or renamed. */
export type SessionHold = { readonly session: Session; readonly refresh: () => Promise<void> }

export const SessionContext = createContext<SessionHold | undefined>(undefined)

export function useSession(): SessionHold {
  const hold = useContext(SessionContext)
  if (!hold) throw new Error('useSession wants a page of somebody who is signed in')
  return hold
}

export const useIsOwner = (): boolean => useSession().session.account.role === 'owner'
