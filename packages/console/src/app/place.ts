import type { App, Operations, ParamsOf, RouteName, Routes } from '@zbell/contract'
import type { AnswerOf, CallInput, ItemOf, ListName } from '@zbell/contract/client'
import { createContext, useContext } from 'react'
import type { z } from 'zod'
import { api } from './api.ts'

export type Environment = 'development' | 'production'
/** Operations of one app in one environment. */
type AppRoute = {
  [Name in RouteName]: 'app' extends ParamsOf<Routes[Name]>
    ? Operations[Name] extends { query: infer Query extends z.ZodType }
      ? 'environment' extends keyof z.input<Query>
        ? Name
        : never
      : never
    : never
}[RouteName]
/** What a call asks beside the app and the environment, which the place says. */
type Asked<Name extends AppRoute> = Omit<CallInput<Name>, 'params' | 'query'> &
  (Exclude<ParamsOf<Routes[Name]>, 'app'> extends never
    ? { params?: undefined }
    : { params: Record<Exclude<ParamsOf<Routes[Name]>, 'app'>, string> }) & {
    query?: Omit<NonNullable<CallInput<Name>['query']>, 'environment'>
  }
type Args<Name extends AppRoute> = object extends Asked<Name> ? [asked?: Asked<Name>] : [asked: Asked<Name>]

/** Where one is: every page speaks of one app in one environment. */
export type Place = {
  readonly app: App
  readonly environment: Environment
  /** Calls an operation of this app, in this environment. Throws as {@link Client.call} does. */
  call<Name extends AppRoute>(name: Name, ...asked: Args<Name>): Promise<AnswerOf<Name>>
  /** Reads a list of this app to its end. Throws as {@link Client.call} does. */
  all<Name extends AppRoute & ListName>(name: Name, ...asked: Args<Name>): Promise<ItemOf<Name>[]>
}

export function placeIn(app: App, environment: Environment): Place {
  const whole = <Name extends AppRoute>([asked]: Args<Name>) =>
    ({
      ...asked,
      params: { app: app.slug, ...asked?.params },
      query: { environment, ...asked?.query },
    }) as unknown as CallInput<Name>
  return {
    app,
    environment,
    call: (name, ...asked) => api.call(name, whole(asked)),
    all: (name, ...asked) => api.all(name, whole(asked)),
  }
}

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
