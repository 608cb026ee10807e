import { mkdtempSync, rmSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { afterAll, beforeAll, beforeEach } from '@jest/globals'
import type { EventKind } from '@zbell/core/webhooks'
import { sql } from 'drizzle-orm'
import { until } from '../../../e2e/harness/programs.ts'
import { AppServer } from '../../../e2e/harness/receiver.ts'
import { makeLog } from '../src/base/log.ts'
import type { Database } from '../src/database/database.ts'
import { whereOf } from '../src/database/scope.ts'
import { Signals } from '../src/engine/signals.ts'
import { publish } from '../src/events/publish.ts'
import { type AddressGuard, anywhere } from '../src/net/address-guard.ts'
import { keptKeyring } from '../src/vault/keyring.ts'
import { Vault } from '../src/vault/vault.ts'
import { type DispatcherParts, WebhookDispatcher } from '../src/webhooks/dispatcher.ts'
import { Webhooks, type WrittenWebhook } from '../src/webhooks/webhooks.ts'
import { type ScratchApp, scratchApp } from './scratch-database.ts'
import { evaluators } from './scratch-evaluator-pool.ts'

export let app: ScratchApp
export let vault: Vault
/** The process that tells. */
export let one: Process
let dir: string
let opened: WebhookDispatcher[] = []
let servers: AppServer[] = []

export type Process = {
  readonly webhooks: Webhooks
  readonly dispatcher: WebhookDispatcher
  readonly signals: Signals
  readonly ended: Record<string, number>
}

/** An app and one process that tells; both anew for each file, what was told for each test. */
export function tellReceivers(): void {
  beforeAll(async () => {
    dir = mkdtempSync(join(tmpdir(), 'bell-webhooks-'))
    app = await scratchApp()
    vault = new Vault(keptKeyring(dir))
  })
  afterAll(async () => {
    await stopAll()
    await app.scratch.close()
    rmSync(dir, { recursive: true, force: true })
  })
  beforeEach(async () => {
    await stopAll()
    for (const table of ['webhooks', 'webhook_log', 'outbox', 'work'])
      await app.database.change(sql`delete from ${sql.identifier(table)}`)
    one = process()
  })
}

async function stopAll(): Promise<void> {
  await Promise.all(opened.map((dispatcher) => dispatcher.close()))
  await Promise.all(servers.map((server) => server.close()))
  opened = []
  servers = []
}

/** What one process has; it tells from its start on. */
export function process(more: Partial<DispatcherParts> = {}, starts = true): Process {
  const ended: Record<string, number> = {}
  const signals = new Signals()
  const parts: DispatcherParts = {
    database: app.database,
    vault,
    guard: anywhere as AddressGuard,
    trusted: [],
    service: () => 'https://bell.example',
    evaluators,
    log: makeLog('silent'),
    pollMs: 20,
    signals,
    leaseMs: 15_000,
    told: (outcome, requests) => {
      ended[outcome] = (ended[outcome] ?? 0) + requests
    },
    ...more,
  }
  const dispatcher = new WebhookDispatcher(parts)
  opened.push(dispatcher)
  if (starts) dispatcher.start()
  return { webhooks: new Webhooks(parts, dispatcher), dispatcher, signals, ended }
}

export async function server(...secrets: string[]): Promise<AppServer> {
  const opening = await AppServer.open(...secrets)
  servers.push(opening)
  return opening
}

/** A server that hears, and is believed to. */
export async function listening(
  written: Partial<WrittenWebhook> = {},
  name = 'app',
  from: Process = one,
): Promise<AppServer> {
  const own = await server()
  const { secret } = await save({ url: own.url, ...written }, name, from)
  if (secret) own.believe(secret)
  return own
}

export const save = (written: Partial<WrittenWebhook>, name = 'app', from: Process = one) =>
  from.webhooks.save(app.scope, name, { kinds: ['*'], batch: 1, enabled: true, ...written }, 'test')

/** Something happens, so many times, in one transaction. */
export const happens = (kind: EventKind = 'source.away', count = 1, database: Database = app.database): Promise<void> =>
  database.transact((tx) =>
    publish(tx, whereOf(app.scope), [kind], () =>
      Array.from({ length: count }, (_, n) => ({ kind, subject: `sailing ${n}`, data: { source: 'sailings', no: n } })),
    ),
  )

export const row = async (name = 'app') => (await one.webhooks.show(await one.webhooks.require(app.scope, name))).row
export const waiting = async (name = 'app') =>
  (await one.webhooks.show(await one.webhooks.require(app.scope, name))).waiting.events
export const log = async (name = 'app') =>
  one.webhooks.listLog(await one.webhooks.require(app.scope, name), {}, 200).then((all) => all.reverse())
export const logged = (count: number, name = 'app') =>
  until(
    () => log(name),
    (all) => all.length >= count,
  )
export const heard = (own: AppServer, count: number) =>
  until(
    () => own.events,
    (all) => all.length >= count,
  )

/** What waits for another try, and whoever is left alone, has waited long enough. */
export async function laterOn(): Promise<void> {
  await app.database.change(sql`update outbox set due_at = utc_timestamp(3)`)
  await app.database.change(sql`update webhooks set backoff_until = null`)
}

/** So long ago. */
export const longAgo = (hours: number) =>
  app.database.change(sql`update outbox set created_at = created_at - interval ${hours} hour`)
