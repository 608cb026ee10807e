import { useEffect } from 'react'
import { useLocation } from 'react-router'
import { type Place, usePlace } from './place.ts'

export type Seen = { readonly to: string; readonly name: string; readonly kind: string }

const most = 8
const keptAs = ({ app, environment }: Place): string => `bell-seen-${app.slug}-${environment}`

/** What was looked at last in an app and environment, the newest first. */
export function readSeen(place: Place): readonly Seen[] {
  return JSON.parse(localStorage.getItem(keptAs(place)) ?? '[]') as Seen[]
}

/** Remembers that this page was looked at. @param name undefined until it is known */
export function useSeen(kind: string, name: string | undefined): void {
  const place = usePlace()
  const { pathname } = useLocation()
  useEffect(() => {
    if (name === undefined) return
    const others = readSeen(place).filter((one) => one.to !== pathname)
    localStorage.setItem(keptAs(place), JSON.stringify([{ to: pathname, name, kind }, ...others].slice(0, most)))
  }, [place, pathname, kind, name])
}
