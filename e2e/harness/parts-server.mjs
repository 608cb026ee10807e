// The console as its developers see it, with the page of parts, put together once; it ends with whoever started it.
import { mkdtempSync, rmSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { fileURLToPath } from 'node:url'

process.env.NODE_ENV = 'development'
const { build, preview } = await import('vite')
const root = fileURLToPath(new URL('../../packages/console', import.meta.url))
const outDir = mkdtempSync(join(tmpdir(), 'bell-parts-'))
const end = () => {
  rmSync(outDir, { recursive: true, force: true })
  process.exit()
}
process.on('disconnect', end)
process.on('SIGTERM', end)
const shared = { root, mode: 'development', logLevel: 'error', build: { outDir, minify: false } }
await build(shared)
const server = await preview({ ...shared, preview: { host: '127.0.0.1', port: 0 } })
console.log(JSON.stringify({ port: server.httpServer.address().port }))
