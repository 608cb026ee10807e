// The console as its developers see it, with the page of parts; it ends with whoever started it.
import { fileURLToPath } from 'node:url'
import { createServer } from 'vite'

process.on('disconnect', () => process.exit())
const server = await createServer({
  root: fileURLToPath(new URL('../../packages/console', import.meta.url)),
  logLevel: 'error',
  server: { host: '127.0.0.1', port: 0, hmr: false, watch: null },
})
await server.listen()
console.log(JSON.stringify({ port: server.httpServer.address().port }))
