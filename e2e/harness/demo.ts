import type { ChildProcess } from 'node:child_process'
import { mkdtempSync, rmSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import type { DemoReady } from '../../packages/demo/src/main.ts'
import { ended, startProgram, zbell } from './programs.ts'
import { openCompany } from './servers/client.ts'
import type { CompanyReady } from './servers/companies.ts'

export type Ready = DemoReady

/** The scenario in an app of a suite's own, on the demo that all suites share: for what neither stops it nor needs the only one. */
export class Company {
  ready!: CompanyReady
  readonly #readsHarbour: boolean

  constructor(given?: 'harbour') {
    this.#readsHarbour = given === 'harbour'
  }

  async open(): Promise<this> {
    this.ready = await openCompany(this.#readsHarbour ? 'harbour' : undefined)
    return this
  }

  zbell(...args: string[]) {
    return zbell(args, { ZBELL_PROFILE: this.ready.profile })
  }
}

/** A demo of its own, in a data folder that can be started again. */
export class Demo {
  readonly data = mkdtempSync(join(tmpdir(), 'bell-demo-'))
  #child: ChildProcess | undefined
  ready!: Ready

  /** @param riders so many passengers besides the five of the scenario */
  async start(riders = 0): Promise<this> {
    const { child, ready } = await startProgram<Ready>(
      'demo.mjs',
      ['--port', '0', '--data', this.data, '--riders', String(riders), '--json'],
      process.env,
    )
    this.#child = child
    this.ready = ready
    return this
  }

  zbell(...args: string[]) {
    return zbell(args, { ZBELL_PROFILE: this.ready.profile })
  }

  /** As Ctrl-C does. @returns the exit code */
  async stop(): Promise<number | null> {
    // Twice, as it comes when a terminal and a parent process both pass it on.
    this.#child?.kill('SIGINT')
    this.#child?.kill('SIGINT')
    if (this.#child) await ended(this.#child)
    return this.#child?.exitCode ?? null
  }

  async kill(): Promise<void> {
    this.#child?.kill('SIGKILL')
    if (this.#child) await ended(this.#child)
  }

  async close(): Promise<void> {
    await this.stop()
    rmSync(this.data, { recursive: true, force: true })
  }
}
