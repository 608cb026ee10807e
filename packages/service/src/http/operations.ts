import { anywhere, onlyHosts, publicOnly } from '../gateways/address-guard.ts'
import { Proofs } from '../people/proofs.ts'
import { DatabaseUnavailable } from '../store/errors.ts'
import type { HttpParts } from './parts.ts'
import { serveActivityFiles } from './routes/activity-files.ts'
import { serveApps } from './routes/apps.ts'
import { serveChannels } from './routes/channels.ts'
import { serveCredentials } from './routes/credentials.ts'
import { serveDevices } from './routes/devices.ts'
import { type EventStreams, serveEvents } from './routes/events.ts'
import { serveFeed } from './routes/feed.ts'
import { serveGatewayTrials } from './routes/gateway-trials.ts'
import { serveGateways } from './routes/gateways.ts'
import { serveHandsets } from './routes/handsets.ts'
import { serveHealthOf } from './routes/health.ts'
import { serveNotifications } from './routes/notifications.ts'
import { serveOwnDevice } from './routes/own-device.ts'
import { serveOwnPerson } from './routes/own-person.ts'
import { servePeople } from './routes/people.ts'
import { serveReceipts } from './routes/receipts.ts'
import { serveRestraint } from './routes/restraint.ts'
import { serveSchedules } from './routes/schedules.ts'
import { serveSegments } from './routes/segments.ts'
import { serveSessions } from './routes/sessions.ts'
import { serveSettings } from './routes/settings.ts'
import { serveSetup } from './routes/setup.ts'
import { serveSources } from './routes/sources.ts'
import { serveTemplates } from './routes/templates.ts'
import { serveTopics } from './routes/topics.ts'
import { serveTransfer } from './routes/transfer.ts'
import { serveTriggers } from './routes/triggers.ts'
import { serveVault } from './routes/vault.ts'
import { serveWebhooks } from './routes/webhooks.ts'
import type { OperationRouter } from './serve-operation.ts'

/** Gives every operation of the contract its route. @param parts.url where this process answers, once it listens */
export function serveOperations(
  on: OperationRouter,
  parts: HttpParts & { readonly streams: EventStreams; readonly url: () => string },
): void {
  const { config, database, vault, hub, gateways, handsets, streams, log, limits } = parts
  const proofs = new Proofs(database, vault)
  const onChange = () => hub.nudge()
  // What devices call comes first: a router tries its routes in their order, and a fleet calls a thousand times as often
  // as any person.
  const rules = {
    guard: onlyHosts(config['gateways.web.hosts'], config['gateways.allowPrivateAddresses'] ? anywhere : publicOnly),
    isRehearsal: (endpoint: URL) => gateways.isRehearsal(endpoint),
  }
  serveOwnDevice(on, { database, vault, limits, proofs, rules, onChange })
  serveReceipts(on, database, limits, parts.metrics, parts.milestones, onChange)
  serveSessions(on, database, limits, config['http.publicUrl'].startsWith('https:'), log)
  serveApps(on, database, () => streams.recheck())
  serveCredentials(on, database, { ...parts, outdatedFrom: (place) => gateways.inspector.outdatedFrom(place) })
  serveSetup(on, database, gateways, handsets.there)
  serveVault(on, parts.rewrap)
  serveGateways(on, database, gateways, parts.onGateway)
  serveGatewayTrials(on, database, gateways)
  serveNotifications(on, parts)
  serveSchedules(on, database, parts.schedules)
  serveFeed(on, database, limits, config['http.publicUrl'], parts.url)
  serveChannels(on, database, limits, onChange)
  serveSources(on, parts, () => config['http.publicUrl'] || parts.url())
  serveTriggers(on, database, parts.triggers)
  serveWebhooks(on, database, limits, parts.webhooks, () => config['http.publicUrl'].replace(/\/$/, '') || parts.url())
  serveRestraint(on, database, parts.stops, limits, onChange)
  serveActivityFiles(on, database)
  serveTemplates(on, database)
  serveSegments(on, database, parts.ruleEvaluator, config['retention.deliveryDays'])
  serveHealthOf(on, database, gateways)
  serveEvents(on, database, hub, streams, (error) => {
    const level = error instanceof DatabaseUnavailable ? 'debug' : 'warn'
    log[level]({ err: error }, 'a change could not be sent to an event stream yet')
  })
  serveSettings(on, database, proofs)
  serveDevices(on, database)
  servePeople(on, database, onChange)
  serveOwnPerson(on, database, limits, onChange)
  serveTransfer(on, database, onChange)
  serveTopics(on, database, limits, onChange)
  serveHandsets(on, database, handsets, parts.url)
}
