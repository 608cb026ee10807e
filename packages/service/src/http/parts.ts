import type { Logger } from 'pino'
import type { Config } from '../base/config/options.ts'
import type { CredentialChecks } from '../gateways/credential-checks.ts'
import type { CredentialRegistry } from '../credentials/registry.ts'
import type { Rewrapped } from '../operations/rewrap.ts'
import type { GatewayRoom } from '../gateways/gateways.ts'
import type { HandsetControl } from '../gateways/handset-control.ts'
import type { Intake } from '../notifications/intake.ts'
import type { RuleEvaluator } from '../segments/rule-evaluator.ts'
import type { Schedules } from '../schedules/schedules.ts'
import type { Stops } from '../notifications/stops.ts'
import type { LiveHub } from '../operations/live/hub.ts'
import type { Incoming } from '../sources/incoming.ts'
import type { Sources } from '../sources/sources.ts'
import type { Milestones } from '../apps/store/milestones.ts'
import type { Database } from '../database/database.ts'
import type { OnGateway } from '../database/scope.ts'
import type { Metrics } from '../base/metrics.ts'
import type { Triggers } from '../triggers/triggers.ts'
import type { Vault } from '../vault/vault.ts'
import type { Webhooks } from '../webhooks/webhooks.ts'
import type { RateLimits } from '../api/limits.ts'

/** What the HTTP interface needs of the rest of the process. */
export type HttpParts = {
  readonly config: Config
  readonly database: Database
  readonly vault: Vault
  readonly ruleEvaluator: RuleEvaluator
  readonly hub: LiveHub
  readonly metrics: Metrics
  readonly log: Logger
  readonly operatorKey: string
  readonly consoleDir: string | undefined
  readonly limits: RateLimits
  readonly intake: Intake
  readonly schedules: Schedules
  readonly stops: Stops
  readonly triggers: Triggers
  readonly sources: Sources
  readonly incoming: Incoming
  readonly webhooks: Webhooks
  /** Whether more is answered than how this process is. */
  readonly answersApi: boolean
  readonly desk: CredentialRegistry
  readonly checks: CredentialChecks
  readonly gateways: GatewayRoom
  readonly handsets: HandsetControl
  readonly milestones: Milestones
  readonly rewrap: () => Promise<Rewrapped>
  readonly onGateway: OnGateway
}
