import type { Outcome, Reason } from '@zbell/core'
import type { Notification } from '../src/engine/notification.ts'
import { noPolicy, type PolicyFacts } from '../src/engine/policy.ts'
import type { GatewayClient, Gateways, WorkStore } from '../src/engine/ports.ts'
import { sendBlock } from '../src/engine/send-block.ts'
import { sendBlockDefaults } from '../src/engine/send-options.ts'
import type { BlockDevice, Claim, Outcomes } from '../src/engine/work.ts'
import { ConcurrencyLimiter } from '../src/gateways/limiter.ts'
import type { SendClaim } from './scratch-block.ts'

export const notification = {
  no: 7,
  id: '018bcfe5-6800-7fff-bfff-000000000007',
  appNo: 1,
  environment: 'development',
  content: { title: 'T' },
  filling: {},
  pause: 'none',
  mode: 'show',
  urgency: 'normal',
  ttlSeconds: 60,
  expiresAt: new Date(Date.now() + 60_000),
  channel: null,
  stopped: false,
  expanded: 10,
} as unknown as Notification

/** What surrounds a block in these tests, and what it does to it. */
export type Stage = {
  stored: Outcomes[]
  fleet: BlockDevice[]
  holds: boolean
  answer: (token: string) => Promise<Outcome>
  client: () => Promise<Reason | undefined>
  faults: unknown[]
  clientState: () => 'open' | 'halted' | 'stale'
  inFlight: { now: number; most: number }
  noted: string[]
  woken: number[]
  /** What all clients have become meanwhile. */
  turned: GatewayClient['state'] | undefined
  opened: string[]
  policy: PolicyFacts
  over: ReadonlyMap<number, string>
  counted: number[]
}

export const stage = {} as Stage

/** Before each test. */
export function setStage(): void {
  Object.assign(stage, {
    stored: [],
    fleet: [],
    holds: true,
    answer: async () => ({ is: 'accepted' }),
    client: async () => undefined,
    faults: [],
    clientState: () => 'open',
    inFlight: { now: 0, most: 0 },
    noted: [],
    woken: [],
    turned: undefined,
    opened: [],
    policy: noPolicy,
    over: new Map(),
    counted: [],
  } satisfies Stage)
}

export const store = {
  devices: async (numbers: readonly number[]) => stage.fleet.filter(({ no }) => numbers.includes(no)),
  policy: async () => stage.policy,
  countUnderCaps: async (_notification: Notification, _caps: unknown, persons: readonly number[]) => {
    stage.counted = [...persons]
    return stage.over
  },
  storeOutcomes: async (_claim: Claim, outcomes: Outcomes) => {
    stage.stored.push({ ...outcomes, ended: [...outcomes.ended], remaining: [...outcomes.remaining] })
    return stage.holds
  },
  wakeRejected: async ({ appNo }: Claim) => {
    stage.woken.push(appNo)
  },
  noteAccepted: async (_notification: Notification, platform: string, rehearsal: boolean) => {
    stage.noted.push(`${platform}${rehearsal ? ' rehearsal' : ''}`)
  },
} as unknown as WorkStore

export const gateways: Gateways = {
  async client(_appNo, _environment, platform, rehearsal) {
    stage.opened.push(`${platform}${rehearsal ? ' rehearsal' : ''}`)
    const reason = await stage.client()
    if (reason) return reason
    const limiter = new ConcurrencyLimiter(3)
    const silent = new ConcurrencyLimiter(1)
    const first = stage.clientState()
    return {
      via: { gateway: 'https://gateway.example', credential: 'signing-key 00112233' },
      limiterOf: ({ token }) => (token.startsWith('silent') ? silent : limiter),
      leadsToMany: platform === 'web',
      get state() {
        return stage.turned ?? first
      },
      prepare: async () => ({
        async send({ token }) {
          stage.inFlight.now++
          stage.inFlight.most = Math.max(stage.inFlight.most, stage.inFlight.now)
          await new Promise((done) => setTimeout(done, 1))
          stage.inFlight.now--
          return stage.answer(token)
        },
      }),
    }
  },
}

export const run = (claim: SendClaim, options = {}) =>
  sendBlock(claim, notification, store, gateways, {
    ...sendBlockDefaults,
    chance: () => 0,
    onFault: (error) => stage.faults.push(error),
    ...options,
  })

export const ends = () =>
  stage.stored
    .flatMap(({ ended }) => ended.map(({ deviceNo, state, reason }) => [deviceNo, state, reason]))
    .sort((a, b) => Number(a[0]) - Number(b[0]))
