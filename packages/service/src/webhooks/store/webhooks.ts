import { and, eq, type SQL, sql } from 'drizzle-orm'
import {
  afterNow,
  apps as appsTable,
  build,
  computed,
  type Database,
  incoming,
  inWhere,
  named,
  now,
  type Reader,
  type RowOf,
  select,
  webhooks as table,
  type Where,
  webhookLog,
} from '../../database/index.ts'
import { pruneOutboxOf } from '../../events/index.ts'

const columns = {
  no: table.no,
  appNo: table.appNo,
  environment: table.environment,
  name: table.name,
  /** The app’s short name. */
  app: computed<string>(sql`(select slug from apps where apps.no = app_no)`),
  /** As they were written: `delivery.*` is one. */
  kinds: table.kinds,
  rule: table.rule,
  /** The most events of a request; 1: each goes alone. */
  batch: table.batch,
  ca: table.ca,
  sealed: table.sealed,
  enabled: table.enabled,
  /** The receiver wanted nothing more. */
  offBecause: table.offBecause,
  fault: table.fault,
  faultSince: table.faultSince,
  /** Requests in a row that failed. */
  failures: table.failures,
  backoffUntil: table.backoffUntil,
  deliveredAt: table.deliveredAt,
  /** Events for which there was no room. */
  dropped: table.dropped,
  droppedAt: table.droppedAt,
  madeBy: table.madeBy,
  changedAt: table.changedAt,
}
/** A webhook as it is kept. */
export type WebhookRow = RowOf<typeof columns>

/** Lists, finds and counts webhooks. */
export const webhookStore = named(table, columns)

export const findWebhooks = async (reader: Reader, numbers: readonly number[]): Promise<WebhookRow[]> =>
  numbers.length === 0 ? [] : webhookStore.select(reader, sql`where no in ${numbers}`)

/** Saves one under its name. It is asked anew, whatever it answered before. */
export async function saveWebhook(
  database: Database,
  { appNo, environment }: Where,
  given: Pick<WebhookRow, 'name' | 'kinds' | 'rule' | 'batch' | 'ca' | 'sealed' | 'enabled' | 'madeBy'>,
): Promise<void> {
  const { name, kinds, rule, batch, ca, sealed, enabled, madeBy } = given
  await database.change(
    build
      .insert(table)
      .values({ appNo, environment, name, kinds, rule, batch, ca, sealed, enabled, madeBy, changedAt: now })
      .onDuplicateKeyUpdate({
        set: {
          kinds: incoming(table.kinds),
          rule: incoming(table.rule),
          batch: incoming(table.batch),
          ca: incoming(table.ca),
          sealed: incoming(table.sealed),
          enabled: incoming(table.enabled),
          offBecause: null,
          failures: 0,
          backoffUntil: null,
          madeBy: incoming(table.madeBy),
          changedAt: incoming(table.changedAt),
        },
      }),
  )
}

/** Switches one on or off; one that is switched on is asked at once. */
export async function enableWebhook(database: Database, no: number, enabled: boolean): Promise<void> {
  await database.change(
    build
      .update(table)
      .set({ enabled, offBecause: null, failures: 0, backoffUntil: null, changedAt: now })
      .where(eq(table.no, no)),
  )
}

/** @returns false when it was changed meanwhile */
export async function replaceSealedWebhook(
  database: Database,
  no: number,
  before: Buffer,
  after: Buffer,
): Promise<boolean> {
  const { affectedRows } = await database.change(
    build
      .update(table)
      .set({ sealed: after })
      .where(and(eq(table.no, no), eq(table.sealed, before))),
  )
  return affectedRows === 1
}

export const sealedWebhooks = (
  reader: Reader,
): Promise<Pick<WebhookRow, 'no' | 'appNo' | 'environment' | 'name' | 'sealed'>[]> =>
  reader.rows(sql`select no, app_no as appNo, environment, name, sealed from webhooks order by no`)

export async function deleteWebhook(database: Database, no: number): Promise<void> {
  await database.change(build.delete(table).where(eq(table.no, no)))
  // What waits for nobody, and what was told, may be much.
  await pruneOutboxOf(database, no)
  await pruneLogOf(database, no)
}

const forgottenAtOnce = 5_000

async function pruneLogOf(database: Database, no: number): Promise<void> {
  for (;;) {
    const { affectedRows } = await database.change(
      build.delete(webhookLog).where(eq(webhookLog.webhookNo, no)).limit(forgottenAtOnce),
    )
    if (affectedRows < forgottenAtOnce) return
  }
}

/** Those of an app whose receivers do not hear, or want nothing more, for those who watch. */
export const failingWebhooks = (reader: Reader, where: Where): Promise<{ name: string; because: string }[]> =>
  reader.rows(
    sql`select name, coalesce(off_because, fault) as because from webhooks
        where ${inWhere(where)} and (off_because is not null or (enabled = true and fault is not null)) order by name limit 20`,
  )

/** What a turn found of a receiver. */
export type RoundResult = {
  readonly failures: number
  /** It is left alone for so long. */
  readonly backoffMs: number
  /** It heard something. */
  readonly told: boolean
  /** What is wrong, while something is. */
  readonly fault: string | null
  /** It wants nothing more, and why. */
  readonly off?: string | undefined
}

/** Writes down what was found, unless somebody has changed the webhook meanwhile. */
export function receiverStatement(no: number, found: RoundResult, changedAt: Date): SQL {
  const { failures, backoffMs, told, fault, off } = found
  return sql`update webhooks set failures = ${failures}, backoff_until = ${backoffMs > 0 ? afterNow(backoffMs) : null},
        fault_since = ${fault === null ? null : sql`coalesce(fault_since, utc_timestamp(3))`},
        fault = ${fault?.slice(0, 300) ?? null}
        ${told ? sql`, delivered_at = utc_timestamp(3)` : sql``}
        ${off === undefined ? sql`` : sql`, enabled = false, off_because = ${off.slice(0, 300)}`}
      where no = ${no} and changed_at = ${changedAt}`
}

/** What each webhook is called, by its number. */
export async function webhookNames(
  reader: Reader,
): Promise<Map<number, { readonly app: string; readonly environment: string; readonly webhook: string }>> {
  const rows = await select(
    reader,
    { no: table.no, app: appsTable.slug, environment: table.environment, webhook: table.name },
    sql`from ${table} join ${appsTable} on ${appsTable.no} = ${table.appNo}`,
  )
  return new Map(rows.map(({ no, ...name }) => [no, name]))
}
