import type { App } from '@zbell/contract'
import { createContext, useContext } from 'react'

export type Environment = 'development' | 'production'
/** Where one is: every page speaks of one app in one environment. */
export type Place = { readonly app: App; readonly environment: Environment }

export const PlaceContext = createContext<Place | undefined>(undefined)

export function usePlace(): Place {
  const place = useContext(PlaceContext)
  if (!place) throw new Error('usePlace wants a page inside the frame')
  return place
}

const keptAs = 'bell-environment'
export const readEnvironment = (): Environment =>
  localStorage.getItem(keptAs) === 'production' ? 'production' : 'development'
export const keepEnvironment = (environment: Environment): void => localStorage.setItem(keptAs, environment)

const appKeptAs = 'bell-app'
export const readApp = (): string | null => localStorage.getItem(appKeptAs)
export const keepApp = (slug: string): void => localStorage.setItem(appKeptAs, slug)
