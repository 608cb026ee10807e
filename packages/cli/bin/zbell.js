#!/usr/bin/env -S node --max-semi-space-size=32
import { existsSync } from 'node:fs'
import { fileURLToPath } from 'node:url'

const bundle = new URL('../../../dist/zbell.mjs', import.meta.url)
if (!existsSync(bundle)) {
  console.error('zbell is not built yet; run "npm run build" in', fileURLToPath(new URL('../../../', import.meta.url)))
  process.exit(70)
}
await import(bundle.href)
