import { hostname } from 'node:os'
import { uuidV7 } from '@zbell/core'
import type { Logger } from 'pino'
import type { ReachedLimit } from '../api/index.ts'
import type { Config, Pace } from '../base/index.ts'
import type { Database } from '../database/index.ts'
import type { GatewayRegistry } from '../gateways/index.ts'
import { type ProcessReport, removeProcess, reportProcess } from './store/processes.ts'

const everyMs = 5_000

/** Says every few seconds that this process is there, and how its ways to the gateways do: any other can be asked for all. */
export class Presence {
  readonly #id: string
  readonly #timer: NodeJS.Timeout
  readonly #report: () => ProcessReport
  readonly #database: Database
  readonly #log: Logger
  #busy: Promise<void> = Promise.resolve()

  constructor(
    given: {
      readonly database: Database
      readonly gateways: GatewayRegistry
      readonly pace: Pace
      readonly log: Logger
      readonly does: Config['only']
      readonly reachedLimits: () => readonly ReachedLimit[]
    },
    chance: Uint8Array,
  ) {
    const { database, gateways, pace, log, does, reachedLimits } = given
    this.#database = database
    this.#log = log
    this.#id = uuidV7(Date.now(), chance)
    this.#report = () => ({
      host: hostname(),
      pid: process.pid,
      does,
      memoryMb: Math.round(process.memoryUsage.rss() / 1_048_576),
      devicesPerSecond: pace.devicesPerSecond() ?? null,
      reachedLimits: reachedLimits(),
      gateways: gateways.health,
    })
    this.#timer = setInterval(() => this.say(), everyMs)
    this.#timer.unref()
    this.say()
  }

  say(): void {
    this.#busy = this.#busy
      .then(() => reportProcess(this.#database, this.#id, this.#report()))
      .catch((error: unknown) => this.#log.debug({ err: error }, 'cannot say that this process is there'))
  }

  async close(): Promise<void> {
    clearInterval(this.#timer)
    await this.#busy
    await removeProcess(this.#database, this.#id).catch((error: unknown) =>
      this.#log.debug({ err: error }, 'cannot say that this process leaves; it will be missed soon'),
    )
  }
}
