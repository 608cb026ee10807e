import type { Logger } from 'pino'
import type { Config } from '../config/options.ts'
import type { CredentialChecks } from '../credentials/checks.ts'
import type { CredentialDesk } from '../credentials/desk.ts'
import type { Rewrapped } from '../credentials/rewrap.ts'
import type { GatewayRoom } from '../gateways/gateways.ts'
import type { HandsetControl } from '../handsets/control.ts'
import type { Intake } from '../intake/intake.ts'
import type { RuleEvaluator } from '../intake/rule-evaluator.ts'
import type { Schedules } from '../intake/schedules.ts'
import type { Stops } from '../intake/stops.ts'
import type { LiveHub } from '../live/hub.ts'
import type { Incoming } from '../sources/incoming.ts'
import type { Sources } from '../sources/sources.ts'
import type { Milestones } from '../store/apps/milestones.ts'
import type { Database } from '../store/database.ts'
import type { GatewayPlace } from '../store/gateways/profiles.ts'
import type { Metrics } from '../telemetry/metrics.ts'
import type { Triggers } from '../triggers/triggers.ts'
import type { Vault } from '../vault/vault.ts'
import type { Webhooks } from '../webhooks/webhooks.ts'
import type { RateLimits } from './rate-limits.ts'

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
  readonly desk: CredentialDesk
  readonly checks: CredentialChecks
  readonly gateways: GatewayRoom
  readonly handsets: HandsetControl
  readonly milestones: Milestones
  readonly rewrap: () => Promise<Rewrapped>
  /**
   * How an app speaks to a gateway has changed: what waited for that may go on.
   * @param isInUse what was changed is in use, and worth a check
   */
  readonly onGateway: (place: GatewayPlace, isInUse: boolean) => Promise<void>
}
