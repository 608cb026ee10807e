import { type CheckVerdict, expiryDue } from '@zbell/core'
import type { Logger } from 'pino'
import { findAppByNo } from '../apps/index.ts'
import type { Metrics } from '../base/index.ts'
import {
  announceExpiry,
  type CredentialRow,
  claimDueCheck,
  expiringCredentials,
  storeCheck,
} from '../credentials/index.ts'
import type { Database } from '../database/index.ts'
import type { Checked } from './check-credential.ts'
import type { GatewayRegistry } from './gateways.ts'

const measureEveryMs = 60_000
const hourMs = 3_600_000

/** Looks after credentials: each one in use is checked every hour, and its end is announced ahead; background jobs call it. */
export class CredentialChecks {
  readonly #database: Database
  readonly #gateways: GatewayRegistry
  readonly #metrics: Metrics
  readonly #log: Logger
  readonly #timer: NodeJS.Timeout

  constructor(database: Database, gateways: GatewayRegistry, metrics: Metrics, log: Logger) {
    this.#database = database
    this.#gateways = gateways
    this.#metrics = metrics
    this.#log = log
    this.#timer = setInterval(() => {
      this.measure(new Date()).catch((error: unknown) =>
        this.#log.debug({ err: error }, 'the days of credentials could not be counted'),
      )
    }, measureEveryMs)
    this.#timer.unref()
  }

  /** Checks one now. */
  async check(row: CredentialRow): Promise<Checked> {
    const checked = await this.#gateways.check(row)
    await storeCheck(this.#database, row.no, checked.verdict, checked.roundTripMs)
    if (!isGood(checked.verdict)) {
      this.#log.warn(
        { credential: row.id, platform: row.platform, environment: row.environment, verdict: checked.verdict },
        'a credential does not work',
      )
    }
    return checked
  }

  /** Whoever has just put one in use wants to know whether it works; nobody waits for the answer. */
  checkSoon(row: CredentialRow): void {
    this.check(row).catch((error: unknown) => this.#log.warn({ err: error }, 'a new credential could not be checked'))
  }

  close(): void {
    clearInterval(this.#timer)
  }

  /** Checks those in use whose last look is an hour ago. */
  async checkDue(mayGoOn: () => boolean): Promise<void> {
    while (mayGoOn()) {
      const row = await claimDueCheck(this.#database, hourMs)
      if (!row) return
      await this.check(row)
    }
  }

  /** Sets this process's metrics of what comes to its end: each is asked for its own. */
  async measure(now: Date): Promise<void> {
    for (const { platform, name, outdatedFrom } of await this.#gateways.profiles.outdating()) {
      const isOver = Date.parse(outdatedFrom) <= now.getTime()
      this.#metrics.outdatedProfiles.set({ platform, profile: name, from: outdatedFrom }, isOver ? 1 : 0)
    }
    for (const { appNo, platform, environment, notAfter } of await expiringCredentials(this.#database))
      this.#metrics.credentialDays.set(
        { app: (await findAppByNo(this.#database, appNo))?.slug ?? String(appNo), platform, environment },
        Math.floor((notAfter.getTime() - now.getTime()) / 86_400_000),
      )
  }

  /** Says of each certificate in use how long it is still good, once at each of the days ahead. */
  async announce(now: Date): Promise<void> {
    for (const row of await expiringCredentials(this.#database)) {
      const due = expiryDue(row.notAfter.getTime(), now.getTime())
      if (due === undefined || (row.announcedDays !== null && row.announcedDays <= due)) continue
      await announceExpiry(this.#database, row.no, due)
      const says = due === 0 ? 'a credential has expired' : `a credential expires within ${due} days`
      this.#log.warn(
        { credential: row.id, platform: row.platform, environment: row.environment, notAfter: row.notAfter },
        says,
      )
    }
  }
}

const isGood = (verdict: CheckVerdict): boolean => verdict.is === 'works' || verdict.is === 'not-checkable'
