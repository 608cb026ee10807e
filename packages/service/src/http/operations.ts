import { serveSessions } from '../accounts/index.ts'
import type { Api } from '../api/index.ts'
import { serveApps } from '../apps/index.ts'
import { serveCredentials } from '../credentials/index.ts'
import { DatabaseUnavailable } from '../database/index.ts'
import { recentDeliveries, serveReceipts } from '../deliveries/index.ts'
import { Proofs, serveDevices, serveOwnDevice } from '../devices/index.ts'
import { serveGateways, serveGatewayTrials, serveHandsets } from '../gateways/index.ts'
import { anywhere, onlyHosts, publicOnly } from '../net/index.ts'
import { serveActivityFiles, serveNotifications, serveStops, serveTemplates } from '../notifications/index.ts'
import {
  type EventStreams,
  serveEvents,
  serveHealthOf,
  serveSetup,
  serveTransfer,
  serveVault,
} from '../operations/index.ts'
import { serveOwnPerson, servePeople, serveTopics, topicsOf } from '../people/index.ts'
import { serveChannels, serveSettings, storeBlocked } from '../policy/index.ts'
import { serveFeed, serveSchedules } from '../schedules/index.ts'
import { serveSegments } from '../segments/index.ts'
import { serveSources } from '../sources/index.ts'
import { serveTriggers } from '../triggers/index.ts'
import { serveWebhooks } from '../webhooks/index.ts'
import type { HttpParts } from './parts.ts'

/** Gives every operation of the contract its route. @param parts.url where this process answers, once it listens */
export function serveOperations(
  api: Api,
  parts: HttpParts & { readonly streams: EventStreams; readonly url: () => string },
): void {
  const { config, database, vault, hub, gateways, handsets, streams, log, limits } = parts
  const proofs = new Proofs(database, vault)
  const onChange = () => parts.signals.emit('change')
  // What devices call comes first: a router tries its routes in their order, and a fleet calls a thousand times as often
  // as any person.
  const rules = {
    guard: onlyHosts(config['gateways.web.hosts'], config['gateways.allowPrivateAddresses'] ? anywhere : publicOnly),
    isRehearsal: (endpoint: URL) => gateways.opener.isRehearsal(endpoint),
  }
  serveOwnDevice(api, { database, vault, limits, proofs, rules, onChange, storeBlocked })
  serveReceipts(api, database, limits, parts.metrics, parts.milestones, onChange)
  serveSessions(api, database, limits, config['http.publicUrl'].startsWith('https:'), log)
  serveApps(api, database, () => streams.recheck())
  serveCredentials(api, database, { ...parts, outdatedFrom: (place) => gateways.inspector.outdatedFrom(place) })
  serveSetup(api, database, gateways, handsets.there)
  serveVault(api, parts.rewrap)
  serveGateways(api, database, gateways, parts.onGateway)
  serveGatewayTrials(api, database, gateways)
  serveNotifications(api, parts)
  serveSchedules(api, database, parts.schedules)
  serveFeed(api, database, limits, config['http.publicUrl'], parts.url)
  serveChannels(api, database, limits, onChange)
  serveSources(api, parts, () => config['http.publicUrl'] || parts.url())
  serveTriggers(api, database, parts.triggers)
  serveWebhooks(api, database, limits, parts.webhooks, () => config['http.publicUrl'].replace(/\/$/, '') || parts.url())
  serveStops(api, database, parts.stops, limits, onChange)
  serveActivityFiles(api, database)
  serveTemplates(api, database)
  serveSegments(api, database, parts.ruleEvaluator, config['retention.deliveryDays'])
  serveHealthOf(api, database, gateways)
  serveEvents(api, database, hub, streams, (error) => {
    const level = error instanceof DatabaseUnavailable ? 'debug' : 'warn'
    log[level]({ err: error }, 'a change could not be sent to an event stream yet')
  })
  serveSettings(api, database, proofs)
  serveDevices(api, database, { topicsOf, recentDeliveries })
  servePeople(api, database, onChange)
  serveOwnPerson(api, database, limits, onChange)
  serveTransfer(api, database, onChange)
  serveTopics(api, database, limits, onChange)
  serveHandsets(api, database, handsets, parts.url)
}
