import type { RehearsalPlan } from '@zbell/contract'
import { type Environment, evaluator, handsetMark, type Platform, type Reason } from '@zbell/core'
import { anywhere, onlyOrigin } from '../net/index.ts'
import type { TransportOptions } from '../transport/index.ts'
import type { SignedAt } from './authorization.ts'
import type { HandsetControl } from './handset-control.ts'
import type { Protocol } from './kept-client.ts'
import { lintProfile } from './lint-profile.ts'
import { openProfileProtocol, openWebProtocol } from './open-protocol.ts'
import { readyProfile } from './ready-profile.ts'

/** What stands for an app that has no identifier yet. */
const rehearsingApp = 'rehearsal'

/** The ways to virtual handsets: the stand-ins that run beside the service, with a credential that they brought along. */
export class Rehearsal {
  readonly #control: HandsetControl
  readonly #http: TransportOptions
  readonly #signedAt: SignedAt
  readonly #inFlight: number

  constructor(control: HandsetControl, http: TransportOptions, signedAt: SignedAt, inFlight: number) {
    this.#control = control
    this.#http = http
    this.#signedAt = signedAt
    this.#inFlight = inFlight
  }

  /** What a way depends on: another one is opened when it changes. */
  async signature(environment: Environment, platform: Platform): Promise<string> {
    const plan = environment === 'development' ? await this.#control.plan() : undefined
    return plan ? JSON.stringify([plan.ca, plan[platform]]) : ''
  }

  async open(environment: Environment, platform: Platform, identifier: string | undefined): Promise<Protocol | Reason> {
    // Devices of handsets cannot register in production; a row that came there otherwise belongs to the other environment.
    if (environment !== 'development') return 'wrong-environment'
    const plan = await this.#control.plan()
    if (!plan) return 'no-handsets'
    const http = { ...this.#http, ca: [plan.ca] }
    if (platform === 'web') {
      const guard = onlyOrigin(plan.web.origin)
      return openWebProtocol(plan.web.credential, {
        webOrigin: identifier ?? '',
        guard,
        http,
        inFlight: this.#inFlight,
      })
    }
    const { origin, credential } = plan[platform]
    return openProfileProtocol({
      ready: standinProfile(plan, platform),
      origins: [origin],
      credential,
      facts: platform === 'android' ? plan.android.facts : {},
      identifier: identifier || rehearsingApp,
      http,
      signedAt: this.#signedAt,
    })
  }

  /** Whether a browser's endpoint is one of the handsets', so that it may be called though it is on this machine. */
  async isEndpoint(endpoint: URL): Promise<boolean> {
    const plan = await this.#control.plan()
    return plan?.web.origin === endpoint.origin && endpoint.pathname.includes(`/${handsetMark}`)
  }
}

function standinProfile(plan: RehearsalPlan, platform: 'ios' | 'android') {
  const { profile, faults } = lintProfile(plan[platform].profile)
  if (!profile) throw new Error(`the stand-in's own profile is at fault: ${faults[0]?.says}`)
  return readyProfile(profile, { evaluate: evaluator(), guard: anywhere })
}
