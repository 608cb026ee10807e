import type { ChildProcess } from 'node:child_process'
import { mkdtempSync, rmSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { ended, startProgram, zbell } from './programs.ts'

export type Ready = {
  readonly service: string
  readonly console: string
  readonly app: string
  readonly environment: string
  readonly backendKey: string
  readonly appKey: string
  readonly account: { readonly email: string; readonly password: string }
  readonly handsets: readonly { readonly id: string; readonly user: string; readonly platform: string }[]
  readonly signInLink: string
  readonly passengers: string
  readonly profile: string
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
