import '@fontsource-variable/atkinson-hyperlegible-next'
import '@fontsource-variable/atkinson-hyperlegible-mono'
import './look/look.css'
import { QueryClient, QueryClientProvider } from '@tanstack/react-query'
import type { Session } from '@zbell/contract'
import { StrictMode, useCallback, useEffect, useMemo, useState } from 'react'
import { createRoot } from 'react-dom/client'
import { BrowserRouter, Route, Routes } from 'react-router'
import { ActivityPage } from './activity/activity-page.tsx'
import { NotificationPage } from './activity/notification-page.tsx'
import { WhyPage } from './activity/why-page.tsx'
import { WhyStartPage } from './activity/why-start-page.tsx'
import { api, isSignedOut, rememberSession } from './app/api.ts'
import { Frame } from './app/frame.tsx'
import { SessionContext } from './app/session.ts'
import { AppPage } from './apps/app-page.tsx'
import { CredentialsPage } from './credentials/credentials-page.tsx'
import { DevicePage } from './devices/device-page.tsx'
import { DevicesPage } from './devices/devices-page.tsx'
import { HealthPage } from './health/health-page.tsx'
import { applyTheme, readTheme } from './look/theme.ts'
import { Failure, Waiting } from './parts/page.tsx'
import { PeoplePage } from './people/people-page.tsx'
import { PersonPage } from './people/person-page.tsx'
import { SetupPage } from './setup/setup-page.tsx'
import { Start } from './setup/start.tsx'
import { SignInPage } from './sign-in/sign-in-page.tsx'
import { TestBenchPage } from './test-bench/test-bench-page.tsx'
import { TopicsPage } from './topics/topics-page.tsx'
import { WritePage } from './write/write-page.tsx'

applyTheme(readTheme())

const queries = new QueryClient({
  defaultOptions: { queries: { retry: (failures, error) => !isSignedOut(error) && failures < 2, staleTime: 2_000 } },
})

type Watch =
  | { readonly is: 'asking' }
  | { readonly is: 'out' }
  | { readonly is: 'in'; readonly session: Session }
  | { readonly is: 'lost'; readonly error: unknown }

function Console() {
  const [watch, setWatch] = useState<Watch>({ is: 'asking' })
  const refresh = useCallback(
    () =>
      api.call('readSession', {}).then(
        (session) => setWatch({ is: 'in', session: rememberSession(session) }),
        (error: unknown) => setWatch(isSignedOut(error) ? { is: 'out' } : { is: 'lost', error }),
      ),
    [],
  )
  useEffect(() => void refresh(), [refresh])
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
          <Failure error={watch.error} />
        </main>
      )
    case 'out':
      return <SignInPage onSession={(session) => setWatch({ is: 'in', session })} />
    case 'in':
      return (
        <SessionContext.Provider value={hold}>
          <Frame>
            <Routes>
              <Route path="/activity" element={<ActivityPage />} />
              <Route path="/activity/:id" element={<NotificationPage />} />
              <Route path="/activity/:id/why/:who?" element={<WhyPage />} />
              <Route path="/why" element={<WhyStartPage />} />
              <Route path="/setup" element={<SetupPage />} />
              <Route path="/app" element={<AppPage />} />
              <Route path="/credentials" element={<CredentialsPage />} />
              <Route path="/devices" element={<DevicesPage />} />
              <Route path="/devices/:id" element={<DevicePage />} />
              <Route path="/people" element={<PeoplePage />} />
              <Route path="/people/:user" element={<PersonPage />} />
              <Route path="/topics" element={<TopicsPage />} />
              <Route path="/health" element={<HealthPage />} />
              <Route path="/bench" element={<TestBenchPage />} />
              <Route path="/write" element={<WritePage />} />
              <Route path="*" element={<Start />} />
            </Routes>
          </Frame>
        </SessionContext.Provider>
      )
    default:
      return watch satisfies never
  }
}

createRoot(document.getElementById('root')!).render(
  <StrictMode>
    <QueryClientProvider client={queries}>
      <BrowserRouter>
        <Console />
      </BrowserRouter>
    </QueryClientProvider>
  </StrictMode>,
)
