import tailwindcss from '@tailwindcss/vite'
import react from '@vitejs/plugin-react'
import { defineConfig } from 'vite'

/** As the service sends it, but for what a server that reloads needs. */
const policyInDevelopment = (nonce: string) =>
  [
    "default-src 'none'",
    `script-src 'self' 'nonce-${nonce}'`,
    `style-src 'self' 'nonce-${nonce}'`,
    "img-src 'self' data:",
    "font-src 'self'",
    "connect-src 'self' ws:",
    "frame-ancestors 'none'",
    "base-uri 'none'",
    "form-action 'none'",
  ].join('; ')

export default defineConfig(({ command }) => {
  // The service puts one of each answer's own in its place.
  const nonce = command === 'build' ? '__CSP_NONCE__' : 'development'
  return {
    plugins: [react(), tailwindcss()],
    html: { cspNonce: nonce },
    // All that any page needs is found at once, so that no page begins anew when it is first seen.
    optimizeDeps: { entries: ['src/**/*.tsx'] },
    server: { headers: { 'Content-Security-Policy': policyInDevelopment(nonce) } },
    build: {
      target: 'es2022',
      // The page's policy allows no inlined data but images.
      assetsInlineLimit: 0,
      modulePreload: { polyfill: false },
    },
  }
})
