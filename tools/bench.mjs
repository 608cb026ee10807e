import { spawn } from 'node:child_process'
import { join } from 'node:path'
import { root, setUp } from './setup.mjs'

const say = (text) => process.stderr.write(`${text}\n`)
const names = process.argv.slice(2).filter((one) => !one.startsWith('--'))
setUp({ browser: names.length === 0 || names.includes('console'), loads: true, say })
const { build } = await import('./build.mjs')
await build(say)
spawn(process.execPath, [join(root, 'dist/bench.mjs'), ...process.argv.slice(2)], { stdio: 'inherit' }).once(
  'exit',
  (code) => {
    process.exitCode = code ?? 1
  },
)
