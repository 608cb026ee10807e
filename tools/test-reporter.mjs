// What a run of tests says while it goes: each file as it ends, what failed as soon as it fails, and how to run that alone.
import { writeFileSync } from 'node:fs'
import { relative } from 'node:path'

const slowestShown = 10
/** Of so few files each test is named. */
const fewFiles = 3
const say = (text) => process.stderr.write(`${text}\n`)
const seconds = (ms) => `${(ms / 1_000).toFixed(1)} s`

export default class Reporter {
  #root
  #total = 0
  #done = []
  #failed = []

  constructor({ rootDir }) {
    this.#root = rootDir
  }

  onTestResult(test, result, aggregated) {
    this.#total = aggregated.numTotalTestSuites
    const file = relative(this.#root, test.path)
    const tookMs = result.perfStats.end - result.perfStats.start
    this.#done.push({ file, tookMs })
    const failed = result.numFailingTests > 0 || result.testExecError
    const tests = `${result.numPassingTests} passed${result.numFailingTests > 0 ? `, ${result.numFailingTests} failed` : ''}`
    const place = `${String(this.#done.length).padStart(String(this.#total).length)}/${this.#total}`
    say(`${failed ? 'FAILED' : 'ok    '} ${place}  ${file}  ${tests}, ${seconds(tookMs)}`)
    if (this.#total <= fewFiles)
      for (const one of result.testResults) say(`       ${one.fullName}  ${seconds(one.duration ?? 0)}`)
    if (!failed) return
    this.#failed.push(file)
    say(result.failureMessage ?? String(result.testExecError))
    say(`Run it alone: npm test -- ${file}\n`)
  }

  onRunComplete(_contexts, results) {
    const slowest = this.#done.toSorted((one, other) => other.tookMs - one.tookMs).slice(0, slowestShown)
    if (this.#done.length > slowestShown) {
      say('\nThe slowest files:')
      for (const { file, tookMs } of slowest) say(`  ${seconds(tookMs).padStart(8)}  ${file}`)
    }
    const { numPassedTests: passed, numFailedTests, numRuntimeErrorTestSuites } = results
    if (process.env.TEST_RESULT)
      writeFileSync(
        process.env.TEST_RESULT,
        JSON.stringify({ passed, failed: numFailedTests + numRuntimeErrorTestSuites, files: this.#failed }),
      )
  }
}
