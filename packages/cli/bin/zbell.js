#!/usr/bin/env -S node --max-semi-space-size=32
import { existsSync } from 'node:fs'
import { fileURLToPath } from 'node:url'

const bundle = new URL('../../../dist/zbell.mjs', import.meta.url)
if (!existsSync(bundle)) {
  const dir = fileURLToPath(new URL('../../../', import.meta.url))
  console.error(
    `zbell is not built yet. Run one of these in ${dir} first: npm start (a service of your own) or npm run demo (the ferry company).`,
  )
  process.exit(70)
}
await import(bundle.href)
