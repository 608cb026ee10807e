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

const unset = '__CSP_NONCE__'

export default defineConfig(({ command }) => {
  // The service puts one of each answer's own in its place.
  const nonce = command === 'build' ? unset : 'development'
  return {
    plugins: [react(), tailwindcss()],
    html: { cspNonce: nonce },
    server: { headers: { 'Content-Security-Policy': policyInDevelopment(nonce) } },
    // As it was put together: nothing has taken the place of the nonce.
    preview: { headers: { 'Content-Security-Policy': policyInDevelopment(unset) } },
    build: {
      target: 'es2022',
      // The page's policy allows no inlined data but images.
      assetsInlineLimit: 0,
      modulePreload: { polyfill: false },
    },
  }
})
