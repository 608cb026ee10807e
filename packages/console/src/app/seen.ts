import { useEffect, useSyncExternalStore } from 'react'
import { useLocation } from 'react-router'
import { type Place, usePlace } from './place.ts'

export type Seen = { readonly to: string; readonly name: string; readonly kind: string }

const most = 8
const keptAs = ({ app, environment }: Place): string => `bell-seen-${app.slug}-${environment}`
const listeners = new Set<() => void>()

function listen(listener: () => void): () => void {
  listeners.add(listener)
  return () => listeners.delete(listener)
}

const read = (place: Place): string => localStorage.getItem(keptAs(place)) ?? '[]'

/** What was looked at last in an app and environment, the newest first; it grows while one looks. */
export function useAllSeen(place: Place): readonly Seen[] {
  return JSON.parse(useSyncExternalStore(listen, () => read(place))) as Seen[]
}

/** Remembers that this page was looked at. @param name undefined until it is known */
export function useSeen(kind: string, name: string | undefined): void {
  const place = usePlace()
  const { pathname } = useLocation()
  useEffect(() => {
    if (name === undefined) return
    const others = (JSON.parse(read(place)) as Seen[]).filter((one) => one.to !== pathname)
    localStorage.setItem(keptAs(place), JSON.stringify([{ to: pathname, name, kind }, ...others].slice(0, most)))
    for (const listener of listeners) listener()
  }, [place, pathname, kind, name])
}
