import { randomBytes } from 'node:crypto'
import { uuidV7 } from '@zbell/core'
import { type EventKind, kindsMeant } from '@zbell/core/webhooks'
import { sql } from 'drizzle-orm'
import { computed, type Reader, select, type Tx, type Where, webhooks } from '../database/index.ts'
import { outboxStatement } from './outbox.ts'
import { type DeliveryGroup, type Fact, packPage } from './page.ts'

/** Somebody who wants to hear of some kinds of events. */
export type Subscriber = { readonly no: number; readonly kinds: ReadonlySet<EventKind> }

/** Who listens in an app, as it is now. */
export async function subscribers(reader: Reader, { appNo, environment }: Where): Promise<Subscriber[]> {
  const rows = await select(
    reader,
    { no: webhooks.no, kinds: computed<string>(sql`cast(${webhooks.kinds} as char)`) },
    sql`from ${webhooks} where ${webhooks.appNo} = ${appNo} and ${webhooks.environment} = ${environment}
        and ${webhooks.enabled} = true order by ${webhooks.no}`,
  )
  return rows.map(({ no, kinds }) => ({ no, kinds: new Set(kindsMeant(JSON.parse(kinds) as string[])) }))
}

export const isSubscribed = (all: readonly Subscriber[], kind: EventKind): boolean =>
  all.some(({ kinds }) => kinds.has(kind))

/** So many events go in a page. */
const pageEvents = 2_000

/**
 * Lets those who listen hear what happened, in the transaction in which it happens.
 * @param facts made only where somebody listens
 */
export async function publish(
  tx: Tx,
  where: Where,
  kinds: readonly EventKind[],
  facts: (wanted: (kind: EventKind) => boolean) => readonly Fact[] | Promise<readonly Fact[]>,
): Promise<void> {
  const all = await subscribers(tx, where)
  if (!kinds.some((kind) => isSubscribed(all, kind))) return
  const happened = await facts((kind) => isSubscribed(all, kind))
  for (let at = 0; at < happened.length; at += pageEvents) {
    const id = pageId()
    const page = happened.slice(at, at + pageEvents).map((fact, no) => [no, fact] as const)
    for (const { no, kinds: wanted } of all) {
      const own = page.filter(([, { kind }]) => wanted.has(kind))
      if (own.length === 0) continue
      const body = packPage({ is: 'facts', id, atMs: Date.now(), facts: own })
      await tx.change(outboxStatement(no, [{ kind: 'event', size: own.length, body }]))
    }
  }
}

/** What became of one delivery. */
export type Step = Omit<DeliveryGroup, 'first' | 'devices' | 'users' | 'at'> & {
  readonly deviceNo: number
  readonly userNo?: number | null | undefined
  readonly atMs: number
}

/** The same for deliveries of one notification. @param steps of one page, made only where somebody listens */
export async function publishDeliveries(
  tx: Tx,
  notificationNo: number,
  all: readonly Subscriber[],
  steps: readonly Step[],
): Promise<void> {
  const wanted = steps.filter(({ kind }) => isSubscribed(all, kind))
  for (let at = 0; at < wanted.length; at += pageEvents) {
    const page = wanted.slice(at, at + pageEvents)
    const atMs = Math.min(...page.map((one) => one.atMs))
    const groups = grouped(page, atMs)
    const id = pageId()
    for (const { no, kinds } of all) {
      const own = groups.filter(({ kind }) => kinds.has(kind))
      if (own.length === 0) continue
      const size = own.reduce((sum, { devices }) => sum + devices.length, 0)
      const body = packPage({ is: 'deliveries', id, atMs, notificationNo, groups: own })
      await tx.change(outboxStatement(no, [{ kind: 'event', size, body }]))
    }
  }
}

type DeliveryGroupBuilder = DeliveryGroup & {
  readonly devices: number[]
  readonly users: number[]
  readonly at: number[]
}

function grouped(steps: readonly Step[], atMs: number): DeliveryGroup[] {
  const groups = new Map<string, DeliveryGroupBuilder>()
  for (const { kind, reason, status, says, action, deviceNo, userNo, atMs: own } of steps) {
    const name = `${kind} ${reason ?? ''} ${status ?? ''} ${action ?? ''} ${says ?? ''}`
    const group = groups.get(name) ?? { kind, reason, status, says, action, first: 0, devices: [], users: [], at: [] }
    if (group.devices.length === 0) groups.set(name, group)
    group.devices.push(deviceNo)
    group.users.push(userNo ?? 0)
    group.at.push(own - atMs)
  }
  let first = 0
  return [...groups.values()].map((group) => {
    const numbered = { ...group, first }
    first += group.devices.length
    return numbered
  })
}

const pageId = (): string => uuidV7(Date.now(), randomBytes(10))
