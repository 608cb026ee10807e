import type { Environment, Platform } from '@zbell/core'
import { sql } from 'drizzle-orm'
import { type Database, milestones, select } from '../../database/index.ts'

export type Milestone = {
  readonly appNo: number
  readonly environment: Environment
  readonly platform: Platform
  /** Reached by a virtual handset, not by a platform's gateway. */
  readonly rehearsal: boolean
  readonly what: 'accepted' | 'received'
}

/** When something happened for the first time. What this process knows to be noted costs nothing any more. */
export class Milestones {
  readonly #database: Database
  readonly #noted = new Set<string>()

  constructor(database: Database) {
    this.#database = database
  }

  async note({ appNo, environment, platform, rehearsal, what }: Milestone): Promise<void> {
    const name = `${appNo} ${environment} ${platform} ${rehearsal} ${what}`
    if (this.#noted.has(name)) return
    await this.#database.change(
      sql`insert ignore into milestones values (${appNo}, ${environment}, ${platform}, ${rehearsal}, ${what}, utc_timestamp(3))`,
    )
    this.#noted.add(name)
  }
}

export function listMilestones(
  database: Database,
  appNo: number,
  environment: Environment,
): Promise<(Pick<Milestone, 'platform' | 'rehearsal' | 'what'> & { at: Date })[]> {
  return select(
    database,
    { platform: milestones.platform, rehearsal: milestones.rehearsal, what: milestones.what, at: milestones.at },
    sql`from ${milestones} where ${milestones.appNo} = ${appNo} and ${milestones.environment} = ${environment}`,
  )
}
