import { useQueryClient } from '@tanstack/react-query'
import type { Session } from '@zbell/contract'
import { ToggleGroup } from 'radix-ui'
import { type ReactNode, useMemo, useState } from 'react'
import { NavLink, useLocation } from 'react-router'
import { NewAppPage } from '../apps/new-app-page.tsx'
import { applyTheme, readTheme, type Theme, themes } from '../look/theme.ts'
import { api } from './api.ts'
import { useLiveApp } from './live.ts'
import {
  type Environment,
  keepApp,
  keepEnvironment,
  type Place,
  PlaceContext,
  readApp,
  readEnvironment,
} from './place.ts'
import { useSession } from './session.ts'

/** Three places, in the order of the work. */
const places = [
  {
    name: 'Prepare',
    pages: [
      { to: '/setup', name: 'Setup' },
      { to: '/app', name: 'App and keys' },
      { to: '/credentials', name: 'Credentials' },
      { to: '/devices', name: 'Devices' },
      { to: '/people', name: 'People' },
      { to: '/topics', name: 'Topics' },
    ],
  },
  { name: 'Ring', pages: [{ to: '/write', name: 'Write' }] },
  {
    name: 'Listen',
    pages: [
      { to: '/activity', name: 'Activity' },
      { to: '/why', name: 'Why' },
      { to: '/bench', name: 'Test bench' },
      { to: '/health', name: 'Health' },
    ],
  },
]

export function Frame({ children }: { readonly children: ReactNode }) {
  const { session } = useSession()
  const { pathname } = useLocation()
  const [environment, setEnvironment] = useState<Environment>(readEnvironment)
  const [slug, setSlug] = useState(readApp)
  const app = session.apps.find((one) => one.slug === slug) ?? session.apps[0]
  const place = useMemo<Place | undefined>(() => app && { app, environment }, [app, environment])
  const chooseApp = (chosen: string) => {
    keepApp(chosen)
    setSlug(chosen)
  }
  if (!place) {
    return (
      <main id="main">
        <NewAppPage onMade={chooseApp} />
      </main>
    )
  }
  const choose = (chosen: Environment) => {
    keepEnvironment(chosen)
    setEnvironment(chosen)
  }
  return (
    <PlaceContext.Provider value={place}>
      <a href="#main" className="sr-only focus:not-sr-only focus:absolute focus:z-10 focus:bg-surface focus:p-3">
        Skip to the page
      </a>
      <div className="min-h-dvh md:grid md:grid-cols-[15rem_1fr]">
        <Rail session={session} place={place} onApp={chooseApp} onEnvironment={choose} />
        <div>
          {environment === 'production' && (
            <p className="border-b-4 border-double border-red px-5 py-1.5 text-sm text-red md:px-10">
              <span aria-hidden="true">▲ </span>Production: what is sent here rings real people’s devices.
            </p>
          )}
          <Live place={place} />
          <main id="main">{pathname === '/app/new' ? <NewAppPage onMade={chooseApp} /> : children}</main>
          <footer className="bg-night px-5 py-6 text-on-night md:hidden">
            <Leaving name={session.account.name} />
          </footer>
        </div>
      </div>
    </PlaceContext.Provider>
  )
}

function Live({ place }: { readonly place: Place }) {
  useLiveApp(place)
  return null
}

type RailProps = {
  readonly session: Session
  readonly place: Place
  readonly onApp: (slug: string) => void
  readonly onEnvironment: (environment: Environment) => void
}

function Rail({ session, place, onApp, onEnvironment }: RailProps) {
  return (
    <header className="flex flex-col gap-3 bg-night px-5 py-4 text-on-night md:sticky md:top-0 md:h-dvh md:gap-8 md:py-7">
      <div className="flex items-center justify-between gap-4 md:block">
        <p className="flex items-center gap-2.5 font-semibold">
          <img src="/bell.svg" alt="" width="28" height="28" />
          Zephyr Bell
        </p>
        <div className="md:mt-7">
          <p className="hidden text-sm text-on-night-soft md:block">App</p>
          {session.apps.length > 1 ? (
            <select
              aria-label="App"
              className="border-on-night-soft/40 bg-night"
              value={place.app.slug}
              onChange={(event) => onApp(event.target.value)}
            >
              {session.apps.map((app) => (
                <option key={app.slug} value={app.slug}>
                  {app.name}
                </option>
              ))}
            </select>
          ) : (
            <p className="leading-tight">{place.app.name}</p>
          )}
        </div>
      </div>
      <Choice
        label="Environment"
        value={place.environment}
        options={['development', 'production']}
        onChoose={(chosen) => onEnvironment(chosen as Environment)}
      />
      <nav aria-label="Pages" className="flex flex-wrap gap-x-5 md:flex-col md:gap-5">
        {places.map(({ name, pages }) => (
          <div key={name} className="max-md:contents">
            <p className="text-sm text-on-night-soft max-md:sr-only">{name}</p>
            <ul className="max-md:contents">
              {pages.map((page) => (
                <li key={page.to}>
                  <NavLink
                    to={page.to}
                    className="block py-0.5 no-underline hover:underline aria-[current=page]:font-semibold aria-[current=page]:before:mr-2 aria-[current=page]:before:text-[#dcae52] aria-[current=page]:before:content-['▸']"
                  >
                    {page.name}
                  </NavLink>
                </li>
              ))}
            </ul>
          </div>
        ))}
      </nav>
      <div className="mt-auto max-md:hidden">
        <Leaving name={session.account.name} />
      </div>
    </header>
  )
}

type ChoiceProps = {
  readonly label: string
  readonly value: string
  readonly options: readonly string[]
  readonly onChoose: (value: string) => void
}

function Choice({ label, value, options, onChoose }: ChoiceProps) {
  return (
    <ToggleGroup.Root
      type="single"
      aria-label={label}
      value={value}
      onValueChange={(chosen) => chosen && onChoose(chosen)}
      className="flex w-full overflow-hidden rounded-md border border-on-night-soft/40 text-sm"
    >
      {options.map((option) => (
        <ToggleGroup.Item
          key={option}
          value={option}
          className="flex-1 cursor-pointer px-2 py-1 text-on-night-soft data-[state=on]:bg-on-night data-[state=on]:font-semibold data-[state=on]:text-[#14293a]"
        >
          {option}
        </ToggleGroup.Item>
      ))}
    </ToggleGroup.Root>
  )
}

function ThemeChoice() {
  const [theme, setTheme] = useState<Theme>(readTheme)
  const choose = (chosen: string) => {
    applyTheme(chosen as Theme)
    setTheme(chosen as Theme)
  }
  return <Choice label="Colours" value={theme} options={themes} onChoose={choose} />
}

function Leaving({ name }: { readonly name: string }) {
  return (
    <div className="text-sm">
      <ThemeChoice />
      <SignOut name={name} />
    </div>
  )
}

function SignOut({ name }: { readonly name: string }) {
  const client = useQueryClient()
  const leave = async () => {
    await api.call('signOut', {})
    client.clear()
    location.assign('/sign-in')
  }
  return (
    <p className="flex flex-wrap gap-x-3 mt-4 whitespace-nowrap text-on-night-soft">
      <span>{name}</span>
      <button
        type="button"
        className="cursor-pointer text-on-night underline underline-offset-4"
        onClick={() => void leave()}
      >
        Sign out
      </button>
    </p>
  )
}
