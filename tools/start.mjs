// A service of one's own, with virtual handsets beside it: npm start [-- OPTIONS of zbell serve]. Installs and builds what is missing.
import { spawn } from 'node:child_process'
import { join } from 'node:path'
import { whenNpmIsGone } from './keeper.mjs'
import { root, setUp } from './setup.mjs'

const say = (text) => process.stderr.write(`${text}\n`)
setUp({ browser: false, say })
const { build } = await import('./build.mjs')
await build(say)

const service = spawn(join(root, 'zbell'), ['serve', '--handsets', ...process.argv.slice(2)], {
  stdio: 'inherit',
  // As it is called in the folder in which npm runs.
  env: { ...process.env, ZBELL_CALLED: './zbell' },
})
// A terminal sends Ctrl-C to the service as well; a supervisor's signal reaches only this process.
for (const signal of ['SIGINT', 'SIGTERM', 'SIGHUP'])
  process.on(signal, () => service.kill(signal === 'SIGHUP' ? 'SIGTERM' : signal))
whenNpmIsGone(() => service.kill('SIGTERM'))
service.once('exit', (code, signal) => {
  process.exitCode = code ?? (signal ? 1 : 0)
})
