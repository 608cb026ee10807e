import '@fontsource-variable/atkinson-hyperlegible-next'
import '@fontsource-variable/atkinson-hyperlegible-mono'
import './look/look.css'
import { QueryClientProvider } from '@tanstack/react-query'
import { setNonce } from 'get-nonce'
import { StrictMode } from 'react'
import { createRoot } from 'react-dom/client'
import { RouterProvider } from 'react-router'
import { queries } from './app/queries.ts'
import { router } from './app/router.tsx'
import { applyDensity, readDensity } from './look/density.ts'
import { applyTheme, readTheme } from './look/theme.ts'
import { nonce } from './parts/nonce.ts'

applyTheme(readTheme())
applyDensity(readDensity())
// What holds the page still behind a dialog writes a style into it, and asks here what it needs for that.
setNonce(nonce)

createRoot(document.getElementById('root')!).render(
  <StrictMode>
    <QueryClientProvider client={queries}>
      <RouterProvider router={router} />
    </QueryClientProvider>
  </StrictMode>,
)
