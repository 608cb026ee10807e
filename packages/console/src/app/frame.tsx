import { useQueryClient } from '@tanstack/react-query'
import type { Session } from '@zbell/contract'
import {
  Ellipsis,
  LogOut,
  MoonStar,
  OctagonX,
  PenLine,
  Rows3,
  Search,
  Settings2,
  ToggleLeft,
  TriangleAlert,
} from 'lucide-react'
import { lazy, type ReactNode, Suspense, useEffect, useMemo, useState } from 'react'
import { NavLink, Outlet, useLocation, useNavigate } from 'react-router'
import { applyDensity, type Density, densities, readDensity } from '../look/density.ts'
import { applyTheme, readTheme, type Theme, themes } from '../look/theme.ts'
import { Button } from '../parts/button.tsx'
import { Sheet } from '../parts/dialog.tsx'
import { LeavingAsks } from '../parts/leaving.tsx'
import { Waiting } from '../parts/page.tsx'
import { Popover } from '../parts/popover.tsx'
import { Select } from '../parts/select.tsx'
import { Segments } from '../parts/toggles.tsx'
import { StopBanner } from '../stop/stop-banner.tsx'
import { api } from './api.ts'
import { useLiveApp } from './live.ts'
import { placeOf, places } from './pages.ts'
import { Palette, type PaletteAct } from './palette.tsx'
import {
  type Environment,
  keepApp,
  keepEnvironment,
  type Place,
  PlaceContext,
  placeIn,
  readApp,
  readEnvironment,
} from './place.ts'
import { useSession } from './session.ts'

const NewAppPage = lazy(async () => ({ default: (await import('../apps/new-app-page.tsx')).NewAppPage }))

/** What surrounds every page: the rail, or on a phone the bar; which app, which environment; the palette. */
export function Frame() {
  const { session } = useSession()
  const { pathname } = useLocation()
  const [environment, setEnvironment] = useState<Environment>(readEnvironment)
  const [slug, setSlug] = useState(readApp)
  const app = session.apps.find((one) => one.slug === slug) ?? session.apps[0]
  const place = useMemo<Place | undefined>(() => app && placeIn(app, environment), [app, environment])
  const chooseApp = (chosen: string) => {
    keepApp(chosen)
    setSlug(chosen)
  }
  if (!place) {
    return (
      <main id="main">
        <Suspense fallback={<Waiting />}>
          <NewAppPage onMade={chooseApp} />
        </Suspense>
        <LeavingAsks />
      </main>
    )
  }
  const choose = (chosen: Environment) => {
    keepEnvironment(chosen)
    setEnvironment(chosen)
  }
  return (
    <PlaceContext.Provider value={place}>
      <Framed session={session} place={place} onApp={chooseApp} onEnvironment={choose}>
        <Suspense fallback={<Waiting />}>
          {pathname === '/app/new' ? <NewAppPage onMade={chooseApp} /> : <Outlet />}
        </Suspense>
        <LeavingAsks />
      </Framed>
    </PlaceContext.Provider>
  )
}

type FramedProps = {
  readonly session: Session
  readonly place: Place
  readonly onApp: (slug: string) => void
  readonly onEnvironment: (environment: Environment) => void
  readonly children: ReactNode
}

function Framed({ session, place, onApp, onEnvironment, children }: FramedProps) {
  const go = useNavigate()
  const signOut = useSignOut()
  const look = useLook()
  const [palette, setPalette] = useState(false)
  useLiveApp(place)
  useEffect(() => {
    const onKey = (event: KeyboardEvent) => {
      if (event.key.toLowerCase() !== 'k' || !(event.ctrlKey || event.metaKey)) return
      event.preventDefault()
      setPalette((open) => !open)
    }
    addEventListener('keydown', onKey)
    return () => removeEventListener('keydown', onKey)
  }, [])
  const choices = { session, place, onApp, onEnvironment, look, onSignOut: () => void signOut() }
  const { environment } = place
  const other = environment === 'production' ? 'development' : 'production'
  const acts: readonly PaletteAct[] = [
    { name: 'Write a notification', icon: PenLine, act: () => void go('/write') },
    { name: 'Stop everything', icon: OctagonX, act: () => void go('/stop') },
    { name: `Go to ${other}`, icon: ToggleLeft, act: () => onEnvironment(other) },
    { name: 'Change between day and dusk', icon: MoonStar, act: look.turn },
    {
      name: look.density === 'compact' ? 'Make rows roomy' : 'Make rows compact',
      icon: Rows3,
      act: () => look.setDensity(look.density === 'compact' ? 'roomy' : 'compact'),
    },
    { name: 'Sign out', icon: LogOut, act: () => void signOut() },
  ]
  return (
    <>
      <a href="#main" className="sr-only focus:not-sr-only focus:absolute focus:z-50 focus:bg-surface focus:p-3">
        Skip to the page
      </a>
      <div className="min-h-dvh md:grid md:grid-cols-[15rem_minmax(0,1fr)]">
        <Rail {...choices} onPalette={() => setPalette(true)} />
        <div className="min-w-0 max-md:pb-16">
          <TopLine place={place} onPalette={() => setPalette(true)} />
          <StopBanner />
          <main id="main">{children}</main>
        </div>
      </div>
      <BottomBar {...choices} />
      <Palette open={palette} onOpenChange={setPalette} acts={acts} />
    </>
  )
}

/** Production is said in words, by a double line and by its own ground: nobody rings real people by mistake. */
function TopLine({ place: { app, environment }, onPalette }: { place: Place; onPalette: () => void }) {
  return (
    <>
      <header className="flex items-center justify-between gap-3 bg-night px-4 py-2 text-on-night md:hidden">
        <p className="flex min-w-0 items-center gap-2 font-semibold">
          <img src="/bell.svg" alt="" width="24" height="24" />
          <span className="truncate">{app.name}</span>
          {environment === 'development' && <span className="text-sm font-normal text-on-night-soft">development</span>}
        </p>
        <button type="button" aria-label="Find or do" className="cursor-pointer p-2" onClick={onPalette}>
          <Search size={19} aria-hidden="true" />
        </button>
      </header>
      {environment === 'production' && (
        <p className="sticky top-0 z-20 flex items-center gap-2 border-b-4 border-double border-red bg-red-wash px-4 py-1.5 text-sm text-red md:px-10">
          <TriangleAlert size={16} aria-hidden="true" className="shrink-0" />
          Production: what is sent here rings real people’s devices.
        </p>
      )}
    </>
  )
}

type RailProps = Omit<ChoicesProps, 'onSignOut'> & { readonly onSignOut: () => void; readonly onPalette: () => void }

function Rail(props: RailProps) {
  return (
    <header className="sticky top-0 flex h-dvh flex-col gap-4 overflow-y-auto bg-night px-5 pt-5 pb-3 text-on-night max-md:hidden">
      <p className="flex items-center gap-2.5 font-semibold">
        <img src="/bell.svg" alt="" width="28" height="28" />
        Zephyr Bell
      </p>
      <Where {...props} />
      <button
        type="button"
        onClick={props.onPalette}
        className="flex cursor-pointer items-center justify-between rounded-control border border-night-line px-3 py-1 text-sm text-on-night-soft hover:text-on-night"
      >
        Find or do
        <kbd className="font-mono text-xs">Ctrl K</kbd>
      </button>
      <nav aria-label="Pages" className="grid gap-3.5">
        {places.map(({ name, pages }) => (
          <div key={name}>
            <p className="text-sm text-on-night-soft">{name}</p>
            <ul>
              {pages.map(({ to, name: page, icon: Icon }) => (
                <li key={to}>
                  <NavLink
                    to={to}
                    className="-mx-2 flex items-center gap-2.5 rounded-control px-2 py-0.5 no-underline hover:bg-night-line/50 aria-[current=page]:bg-night-line aria-[current=page]:font-semibold [&[aria-current=page]>svg]:text-brass-by-night"
                  >
                    <Icon size={17} aria-hidden="true" />
                    {page}
                  </NavLink>
                </li>
              ))}
            </ul>
          </div>
        ))}
      </nav>
      <div className="mt-auto border-t border-night-line pt-2">
        <Popover
          label="How it looks, and who is here"
          trigger={
            <button
              type="button"
              className="-mx-2 flex w-[calc(100%+1rem)] cursor-pointer items-center justify-between rounded-control px-2 py-1 text-sm text-on-night-soft hover:bg-night-line/50 hover:text-on-night"
            >
              {props.session.account.name}
              <Settings2 size={16} aria-hidden="true" />
            </button>
          }
        >
          <Looks look={props.look} onSignOut={props.onSignOut} />
        </Popover>
      </div>
    </header>
  )
}

/** On a phone: the three places, each with a sheet of its pages, and one for all else. */
function BottomBar(props: ChoicesProps) {
  const { pathname } = useLocation()
  const [open, setOpen] = useState<string>()
  const here = placeOf(pathname)
  const shown = places.find(({ name }) => name === open)
  // biome-ignore lint/correctness/useExhaustiveDependencies: whoever has arrived has chosen
  useEffect(() => setOpen(undefined), [pathname])
  const entry = 'flex cursor-pointer flex-col items-center gap-0.5 py-2 text-xs'
  return (
    <>
      <nav
        aria-label="Places"
        className="fixed inset-x-0 bottom-0 z-20 grid grid-cols-4 bg-night text-on-night-soft md:hidden"
      >
        {places.map(({ name, icon: Icon, pages }) =>
          pages.length === 1 ? (
            <NavLink key={name} to={pages[0]!.to} className={`${entry} no-underline aria-[current=page]:text-on-night`}>
              <Icon size={20} aria-hidden="true" />
              {name}
            </NavLink>
          ) : (
            <button
              key={name}
              type="button"
              aria-haspopup="dialog"
              onClick={() => setOpen(name)}
              className={`${entry} ${here?.name === name ? 'text-on-night' : ''}`}
              {...(here?.name === name ? { 'aria-current': 'true' as const } : {})}
            >
              <Icon size={20} aria-hidden="true" />
              {name}
            </button>
          ),
        )}
        <button type="button" aria-haspopup="dialog" className={entry} onClick={() => setOpen('More')}>
          <Ellipsis size={20} aria-hidden="true" />
          More
        </button>
      </nav>
      <Sheet title={open ?? ''} open={open !== undefined} onOpenChange={(now) => !now && setOpen(undefined)}>
        {shown ? (
          <ul>
            {shown.pages.map(({ to, name, icon: Icon }) => (
              <li key={to}>
                <NavLink
                  to={to}
                  className="flex items-center gap-3 rounded-control px-2 py-2.5 no-underline aria-[current=page]:bg-sunken aria-[current=page]:font-semibold"
                >
                  <Icon size={19} aria-hidden="true" className="text-soft" />
                  {name}
                </NavLink>
              </li>
            ))}
          </ul>
        ) : (
          <div className="grid gap-6">
            <div className="rounded-float bg-night p-4">
              <Where {...props} />
            </div>
            <div>
              <p className="mb-2 text-soft">{props.session.account.name}</p>
              <Looks look={props.look} onSignOut={props.onSignOut} />
            </div>
          </div>
        )}
      </Sheet>
    </>
  )
}

type ChoicesProps = Omit<FramedProps, 'children'> & {
  readonly look: Look
  readonly onSignOut: () => void
}

/** Which app, and which environment. Always by night, as the rail is. */
function Where({ session, place, onApp, onEnvironment }: Omit<FramedProps, 'children'>) {
  return (
    <div className="dusk grid gap-2.5 text-sm text-on-night">
      {session.apps.length > 1 ? (
        <Select
          label="App"
          value={place.app.slug}
          options={session.apps.map(({ slug, name }) => ({ value: slug, label: name }))}
          onChange={onApp}
        />
      ) : (
        <p className="text-base leading-tight">{place.app.name}</p>
      )}
      <Segments
        label="Environment"
        value={place.environment}
        options={['development', 'production'] as const}
        onChange={onEnvironment}
        byNight
      />
    </div>
  )
}

/** How the console looks in this browser, and the way out. */
function Looks({ look, onSignOut }: Pick<ChoicesProps, 'look' | 'onSignOut'>) {
  return (
    <div className="grid w-56 gap-3 text-sm">
      <Segments label="Colours" value={look.theme} options={themes} onChange={look.setTheme} />
      <Segments label="Rows" value={look.density} options={densities} onChange={look.setDensity} />
      <Button rank="quiet" icon={LogOut} className="justify-self-start" onClick={onSignOut}>
        Sign out
      </Button>
    </div>
  )
}

type Look = ReturnType<typeof useLook>

function useLook() {
  const [theme, setTheme] = useState<Theme>(readTheme)
  const [density, setDensity] = useState<Density>(readDensity)
  useEffect(() => applyTheme(theme), [theme])
  useEffect(() => applyDensity(density), [density])
  const turn = () => setTheme(document.documentElement.dataset.theme === 'dark' ? 'light' : 'dark')
  return { theme, setTheme, density, setDensity, turn }
}

function useSignOut() {
  const client = useQueryClient()
  return async () => {
    await api.call('signOut', {})
    client.clear()
    location.assign('/sign-in')
  }
}
