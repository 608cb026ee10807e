import { type CheckVerdict, expiryDue, platforms } from '@zbell/core'
import type { Logger } from 'pino'
import type { Checked } from '../gateways/check-credential.ts'
import type { GatewayRoom } from '../gateways/gateways.ts'
import {
  announceExpiry,
  type CredentialRow,
  claimDueCheck,
  expiringCredentials,
  storeCheck,
} from '../store/apps/credentials.ts'
import type { Database } from '../store/database.ts'
import { DatabaseUnavailable } from '../store/errors.ts'
import type { Metrics } from '../telemetry/metrics.ts'

const lookEveryMs = 60_000
const hourMs = 3_600_000

/** Looks after credentials: each one in use is checked every hour, and its end is announced ahead. */
export class CredentialChecks {
  readonly #database: Database
  readonly #gateways: GatewayRoom
  readonly #metrics: Metrics
  readonly #log: Logger
  readonly #timer: NodeJS.Timeout

  constructor(database: Database, gateways: GatewayRoom, metrics: Metrics, log: Logger) {
    this.#database = database
    this.#gateways = gateways
    this.#metrics = metrics
    this.#log = log
    this.#timer = setInterval(() => this.#look(), lookEveryMs)
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

  #look(): void {
    const all = async () => {
      // Of several processes one gets each check that is due.
      for (
        let row = await claimDueCheck(this.#database, hourMs);
        row;
        row = await claimDueCheck(this.#database, hourMs)
      )
        await this.check(row)
      await this.announce(new Date())
    }
    all().catch((error: unknown) => {
      if (!(error instanceof DatabaseUnavailable))
        this.#log.error({ err: error }, 'credentials could not be looked after')
    })
  }

  /** Says of each certificate in use how long it is still good, once at each of the days ahead. */
  async announce(now: Date): Promise<void> {
    for (const { platform, profile, outdatedFrom } of platforms.map((one) =>
      this.#gateways.describe(one, 'production'),
    )) {
      if (profile && outdatedFrom) {
        const isOver = Date.parse(outdatedFrom) <= now.getTime()
        this.#metrics.outdatedProfiles.set({ platform, profile, from: outdatedFrom }, isOver ? 1 : 0)
      }
    }
    for (const row of await expiringCredentials(this.#database)) {
      const leftDays = (row.notAfter.getTime() - now.getTime()) / 86_400_000
      this.#metrics.credentialDays.set(
        { app: row.appNo, platform: row.platform, environment: row.environment },
        Math.floor(leftDays),
      )
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
