import { spawn } from 'node:child_process'
import { join } from 'node:path'
import { whenNpmIsGone } from './keeper.mjs'
import { root, setUp } from './setup.mjs'

const say = (text) => process.stderr.write(`${text}\n`)
setUp({ browser: false, say })
const { build } = await import('./build.mjs')
await build(say)

const demo = spawn(process.execPath, [join(root, 'dist/demo.mjs'), ...process.argv.slice(2)], {
  stdio: 'inherit',
  cwd: process.cwd(),
})
// A terminal sends Ctrl-C to the demo as well; a supervisor's signal reaches only this process.
for (const signal of ['SIGINT', 'SIGTERM']) process.on(signal, () => demo.kill(signal))
whenNpmIsGone(() => demo.kill('SIGTERM'))
demo.once('exit', (code, signal) => {
  process.exitCode = code ?? (signal ? 1 : 0)
})
