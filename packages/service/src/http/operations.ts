import { anywhere, onlyHosts, publicOnly } from '../base/address-guard.ts'
import { Proofs } from '../devices/proofs.ts'
import { DatabaseUnavailable } from '../database/errors.ts'
import { storeBlocked } from '../policy/store/channels.ts'
import { topicsOf } from '../people/store/topics.ts'
import { recentDeliveries } from '../deliveries/store/recent-deliveries.ts'
import type { HttpParts } from './parts.ts'
import { serveActivityFiles } from '../notifications/export-routes.ts'
import { serveApps } from '../apps/routes.ts'
import { serveChannels } from '../policy/channel-routes.ts'
import { serveCredentials } from '../credentials/routes.ts'
import { serveDevices } from '../devices/routes.ts'
import { type EventStreams, serveEvents } from '../operations/live/routes.ts'
import { serveFeed } from '../schedules/feed-routes.ts'
import { serveGatewayTrials } from '../gateways/trial-routes.ts'
import { serveGateways } from '../gateways/routes.ts'
import { serveHandsets } from '../gateways/handset-routes.ts'
import { serveHealthOf } from '../operations/health-routes.ts'
import { serveNotifications } from '../notifications/routes.ts'
import { serveOwnDevice } from '../devices/own-device-routes.ts'
import { serveOwnPerson } from '../people/own-person-routes.ts'
import { servePeople } from '../people/routes.ts'
import { serveReceipts } from '../deliveries/receipt-routes.ts'
import { serveRestraint } from '../notifications/stop-routes.ts'
import { serveSchedules } from '../schedules/routes.ts'
import { serveSegments } from '../segments/routes.ts'
import { serveSessions } from '../accounts/routes.ts'
import { serveSettings } from '../policy/settings-routes.ts'
import { serveSetup } from '../operations/setup-routes.ts'
import { serveSources } from '../sources/routes.ts'
import { serveTemplates } from '../notifications/template-routes.ts'
import { serveTopics } from '../people/topic-routes.ts'
import { serveTransfer } from '../operations/transfer/routes.ts'
import { serveTriggers } from '../triggers/routes.ts'
import { serveVault } from '../operations/vault-routes.ts'
import { serveWebhooks } from '../webhooks/routes.ts'
import type { Api } from '../api/api.ts'

/** Gives every operation of the contract its route. @param parts.url where this process answers, once it listens */
export function serveOperations(
  api: Api,
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
  serveRestraint(api, database, parts.stops, limits, onChange)
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
