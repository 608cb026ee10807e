import type { Logger } from 'pino'
import type { Closeable, Config, Metrics, Pace } from './base/index.ts'
import type { Database } from './database/index.ts'
import type { Signals } from './engine/index.ts'
import type { EvaluatorPool } from './evaluation/index.ts'
import { type GatewayRegistry, trustedCertificates } from './gateways/index.ts'
import type { HttpParts } from './http/index.ts'
import { anywhere, publicOnly } from './net/index.ts'
import { Intake, Stops } from './notifications/index.ts'
import { does, type Engine } from './open-engine.ts'
import { ScheduleClock, Schedules } from './schedules/index.ts'
import { Incoming, ReaderPool, type SourceParts, SourcePoller, SourceQueries, Sources } from './sources/index.ts'
import { sourceAwayFirings, Triggers, triggerClocks } from './triggers/index.ts'
import type { Vault } from './vault/index.ts'
import { type DispatcherParts, WebhookDispatcher, Webhooks } from './webhooks/index.ts'

type UseParts = {
  readonly config: Config
  readonly log: Logger
  readonly closeables: Closeable[]
  readonly database: Database
  readonly vault: Vault
  readonly evaluators: EvaluatorPool
  readonly gateways: GatewayRegistry
  readonly metrics: Metrics
  readonly pace: Pace
  readonly engine: Engine
  readonly signals: Signals
  /** Where this process answers, once it listens. */
  readonly address: () => string
}

/** What a route, a clock and a file call alike. */
export type Uses = Pick<HttpParts, 'intake' | 'schedules' | 'stops' | 'triggers' | 'sources' | 'incoming' | 'webhooks'>

/** Opens the use cases, and starts the clocks and the dispatcher of webhooks where this process has them. */
export function openUses({
  config,
  log,
  closeables,
  database,
  vault,
  evaluators,
  gateways,
  metrics,
  pace,
  engine,
  signals,
  address,
}: UseParts): Uses {
  const keptDays = config['retention.deliveryDays']
  const intake = new Intake({ database, gateways, pace, keptDays, signals, ...engine.forIntake })
  const schedules = new Schedules(database, intake, evaluators, { keptDays, signals })
  const outside = {
    database,
    vault,
    guard: config['gateways.allowPrivateAddresses'] ? anywhere : publicOnly,
    trusted: trustedCertificates(config),
    evaluators,
    log,
  }
  const readers = new ReaderPool({
    isGuarded: !config['gateways.allowPrivateAddresses'],
    trusted: outside.trusted,
    withinMs: config['sources.timeoutMs'],
  })
  closeables.push({ part: 'readers', close: () => readers.close() })
  const queries = new SourceQueries({ ...outside, readers })
  const sourceParts: SourceParts = {
    ...outside,
    readers,
    queries,
    withinMs: config['sources.timeoutMs'],
    onAway: sourceAwayFirings,
    onPolled: (kind, outcome) => metrics.sourceLooks.inc({ kind, outcome }),
  }
  const dispatcherParts: DispatcherParts = {
    ...outside,
    service: () => config['http.publicUrl'].replace(/\/$/, '') || address(),
    pollMs: config['engine.pollMs'],
    signals,
    leaseMs: config['engine.leaseMs'],
    isSending: () => engine.isSending(),
    told: (outcome, requests) => metrics.webhookRequests.inc({ outcome }, requests),
  }
  const dispatcher = new WebhookDispatcher(dispatcherParts)
  if (does(config, 'worker')) dispatcher.start()
  closeables.push({ part: 'webhooks', close: () => dispatcher.close() })
  const poller = new SourcePoller(sourceParts)
  closeables.push({ part: 'sources', close: () => poller.close() })
  const triggers = new Triggers({
    database,
    intake,
    queries,
    evaluators,
    signals,
    keptDays,
    observer: {
      fired: (state) => metrics.firings.inc({ state }),
      failed: (trigger, err) => log.error({ err, trigger }, 'a trigger could not ring: internal error'),
    },
  })
  closeables.push({ part: 'triggers', close: () => triggers.close() })
  if (does(config, 'clock')) {
    const clock = new ScheduleClock(database, schedules, log, (state) => metrics.scheduleRuns.inc({ state }))
    closeables.push({ part: 'schedules', close: () => clock.close() })
    clock.start()
    for (const firing of triggerClocks(triggers, log)) {
      closeables.push({ part: 'clocks of triggers', close: () => firing.close() })
      firing.start()
    }
    poller.start()
  }
  return {
    intake,
    schedules,
    stops: new Stops(database, intake, signals),
    triggers,
    sources: new Sources(sourceParts, poller),
    incoming: new Incoming(sourceParts),
    webhooks: new Webhooks(dispatcherParts, dispatcher),
  }
}
