// Everything that has to hold, cheapest first: npm test [-- words of jest]. With --long also what takes many minutes.
import { spawnSync } from 'node:child_process'
import { mkdtempSync, readFileSync, rmSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { root, setUp } from './setup.mjs'

const say = (text) => process.stderr.write(`${text}\n`)
setUp({ browser: true, say })
const { build } = await import('./build.mjs')

const bin = (name) => join(root, 'node_modules/.bin', name)
const node = (...args) => [process.execPath, ...args]

function step(name, [command, ...args]) {
  say(`\n— ${name}`)
  const startMs = Date.now()
  const { status } = spawnSync(command, args, { cwd: root, stdio: ['ignore', 'inherit', 'inherit'] })
  if (status !== 0) {
    say(`${name} failed.`)
    process.exit(status ?? 1)
  }
  say(`  ${((Date.now() - startMs) / 1_000).toFixed(1)} s`)
}

step('types', [bin('tsc'), '-p', 'tsconfig.json'])
step('types of the core, without Node or a browser', [bin('tsc'), '-p', 'packages/core/tsconfig.json'])
step('lint and format', [bin('biome'), 'check', '--error-on-warnings', '.'])
step('boundaries', node('tools/boundaries.mjs'))
await build(say)

const words = process.argv.slice(2).filter((word) => word !== '--long')
const isLong = words.length < process.argv.length - 2
const env = { ...process.env, ...(isLong ? { LONG_TESTS: 'yes' } : {}) }
const scratch = mkdtempSync(join(tmpdir(), 'bell-tests-'))
const report = join(scratch, 'report.json')
const { status } = spawnSync(
  process.execPath,
  [
    '--experimental-vm-modules',
    '--disable-warning=ExperimentalWarning',
    'node_modules/jest/bin/jest.js',
    '--json',
    `--outputFile=${report}`,
    ...words,
  ],
  { cwd: root, env, stdio: ['ignore', 'ignore', 'inherit'] },
)
const { numPassedTests, numFailedTests } = JSON.parse(readFileSync(report, 'utf8'))
rmSync(scratch, { recursive: true, force: true })
console.log(`${numPassedTests} passed, ${numFailedTests} failed`)
process.exitCode = status ?? 1
