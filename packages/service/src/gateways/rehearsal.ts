import type { RehearsalPlan } from '@zbell/contract'
import { type Environment, handsetMark, type Platform, type Reason, RequestShaper } from '@zbell/core'
import type { HandsetControl } from '../handsets/control.ts'
import { onlyOrigin } from './address-guard.ts'
import type { Protocol } from './kept-lane.ts'
import { lintProfile } from './lint-profile.ts'
import { openProfileProtocol, openWebProtocol } from './open-protocol.ts'
import type { TransportOptions } from './transport/transport.ts'

/** What stands for an app that has no identifier yet. */
const rehearsingApp = 'rehearsal'

/** The ways to virtual handsets: the stand-ins that run beside the service, with a credential that they brought along. */
export class Rehearsal {
  readonly #control: HandsetControl
  readonly #http: TransportOptions

  constructor(control: HandsetControl, http: TransportOptions) {
    this.#control = control
    this.#http = http
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
      return openWebProtocol(plan.web.credential, { webOrigin: identifier ?? '', guard, http })
    }
    return openProfileProtocol(
      readyProfile(plan, platform),
      plan[platform].origin,
      plan[platform].credential,
      identifier || rehearsingApp,
      http,
    )
  }

  /** Whether a browser's endpoint is one of the handsets', so that it may be called though it is on this machine. */
  async isEndpoint(endpoint: URL): Promise<boolean> {
    const plan = await this.#control.plan()
    return plan?.web.origin === endpoint.origin && endpoint.pathname.includes(`/${handsetMark}`)
  }
}

function readyProfile(plan: RehearsalPlan, platform: 'ios' | 'android') {
  const { profile, faults } = lintProfile(plan[platform].profile)
  if (!profile) throw new Error(`the stand-in's own profile is at fault: ${faults[0]?.says}`)
  return { profile, shaper: new RequestShaper(profile), ca: [] }
}
