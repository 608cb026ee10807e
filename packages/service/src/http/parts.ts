import type { Logger } from 'pino'
import type { RateLimits } from '../api/index.ts'
import type { Milestones } from '../apps/index.ts'
import type { Config, Metrics } from '../base/index.ts'
import type { CredentialRegistry } from '../credentials/index.ts'
import type { Database, OnGateway } from '../database/index.ts'
import type { Signals } from '../engine/index.ts'
import type { CredentialChecks, GatewayRegistry, HandsetControl } from '../gateways/index.ts'
import type { Intake, Stops } from '../notifications/index.ts'
import type { LiveHub, Rewrapped } from '../operations/index.ts'
import type { Schedules } from '../schedules/index.ts'
import type { RuleEvaluator } from '../segments/index.ts'
import type { Incoming, Sources } from '../sources/index.ts'
import type { Triggers } from '../triggers/index.ts'
import type { Vault } from '../vault/index.ts'
import type { Webhooks } from '../webhooks/index.ts'

/** What the HTTP interface needs of the rest of the process. */
export type HttpParts = {
  readonly config: Config
  readonly database: Database
  readonly vault: Vault
  readonly ruleEvaluator: RuleEvaluator
  readonly hub: LiveHub
  readonly signals: Signals
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
  readonly registry: CredentialRegistry
  readonly checks: CredentialChecks
  readonly gateways: GatewayRegistry
  readonly handsets: HandsetControl
  readonly milestones: Milestones
  readonly rewrap: () => Promise<Rewrapped>
  readonly onGateway: OnGateway
}
