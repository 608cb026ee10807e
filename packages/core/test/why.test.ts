import { describe, expect, test } from '@jest/globals'
import {
  type DeliveryState,
  deliveryStateNames,
  type Evidence,
  explainDelivery,
  presentations,
  type Reason,
  reasons,
} from '@zbell/core'
import fc from 'fast-check'

const sentMs = 1_000_000
type Delivery = NonNullable<Evidence['delivery']>

const delivered = (state: DeliveryState, more: Partial<Delivery> = {}): Delivery => ({
  state,
  reason: null,
  attempts: 1,
  gatewayReference: null,
  appState: null,
  became: null,
  action: null,
  zone: null,
  waited: false,
  waits: null,
  moments: {},
  ...more,
})

function evidence(more: {
  notification?: Partial<Evidence['notification']>
  device?: Partial<Evidence['device']>
  person?: Evidence['person']
  named?: boolean
  delivery?: Delivery
  replacedMs?: number
  answer?: Evidence['answer']
}): Evidence {
  return {
    notification: {
      mode: 'show',
      environment: 'development',
      createdMs: sentMs,
      missedMs: null,
      expiresMs: sentMs + 86_400_000,
      state: 'finished',
      target: 'topic:route-4',
      prunedMs: null,
      ...more.notification,
    },
    device: {
      platform: 'ios',
      permission: 'granted',
      muted: false,
      registeredMs: 1,
      retiredMs: null,
      retiredReason: null,
      receiptMs: null,
      rehearsal: false,
      ...more.device,
    },
    person: more.person ?? 'stays',
    named: more.named ?? true,
    delivery: more.delivery,
    answer: more.answer ?? null,
    replacedMs: more.replacedMs ?? null,
    zone: 'UTC',
    cap: null,
    nowMs: sentMs + 60_000,
  }
}

const accepted = { accepted: sentMs + 10 }
const arrived = { ...accepted, received: sentMs + 20 }
const shown = { ...arrived, shown: sentMs + 20 }

describe('why', () => {
  test.each<[string, Parameters<typeof evidence>[0], string, boolean]>([
    ['registered later', { device: { registeredMs: sentMs + 1 } }, 'No: the device registered later', false],
    [
      'retired before',
      { device: { retiredMs: 5, retiredReason: 'token-gone' } },
      'No: the device was retired before',
      false,
    ],
    ['not named', { named: false }, 'No: the target does not name this device.', false],
    ['named since', {}, 'No: the device came into the target only after', false],
    [
      'still being found',
      { notification: { state: 'expanding' } },
      'Not yet: the devices are still being found.',
      false,
    ],
    [
      'cancelled before it was found',
      { notification: { state: 'cancelled' } },
      'No: the notification was cancelled',
      false,
    ],
    ['pruned', { notification: { prunedMs: 9 } }, 'Unknown: the notification is so old', false],
    ['in the queue', { delivery: delivered('queued') }, 'Not yet: it is still in the queue.', false],
    [
      'paused',
      { notification: { state: 'paused' }, delivery: delivered('queued') },
      'Not yet: the notification is paused.',
      false,
    ],
    ['muted', { delivery: delivered('skipped', { reason: 'muted' }) }, 'No: the user turned notifications off', false],
    [
      'refused',
      { delivery: delivered('refused', { reason: 'token-gone' }) },
      'No: the gateway says that this token',
      false,
    ],
    [
      'expired',
      { delivery: delivered('expired', { reason: 'gateway-unreachable' }) },
      'No: the gateway could not be reached',
      false,
    ],
    [
      'cancelled',
      { delivery: delivered('withdrawn', { reason: 'cancelled' }) },
      'No: the notification was cancelled',
      false,
    ],
    ['superseded', { delivery: delivered('withdrawn', { reason: 'superseded' }) }, 'No: a newer notification', false],
    [
      'taken and silent',
      { delivery: delivered('accepted', { moments: accepted }) },
      'Unknown: the gateway accepted it',
      false,
    ],
    [
      'dropped by the app',
      { delivery: delivered('received', { moments: arrived, became: 'dropped' }) },
      'No: the app was in front',
      false,
    ],
    [
      'not allowed there',
      { delivery: delivered('received', { moments: arrived, became: 'not-allowed' }) },
      'No: it arrived, and the user',
      false,
    ],
    [
      'woken',
      { notification: { mode: 'wake' }, delivery: delivered('received', { moments: arrived, became: 'woken' }) },
      'It woke the app',
      false,
    ],
    [
      'arrived, no more known',
      { delivery: delivered('received', { moments: arrived }) },
      'It arrived, and was not reported as shown.',
      false,
    ],
    [
      'shown',
      { delivery: delivered('shown', { moments: shown, became: 'shown' }) },
      'Yes: it was shown, and has not been opened yet.',
      true,
    ],
    [
      'in silence',
      { delivery: delivered('shown', { moments: shown, became: 'silenced' }) },
      'Yes: it was shown, without a sound',
      true,
    ],
    [
      'in the app’s own form',
      { delivery: delivered('shown', { moments: shown, became: 'replaced' }) },
      'Yes: it was shown by the app itself',
      true,
    ],
    [
      'opened',
      { delivery: delivered('opened', { moments: { ...shown, opened: sentMs + 99 } }) },
      'Yes: it was shown and opened.',
      true,
    ],
    [
      'put away',
      { delivery: delivered('dismissed', { moments: { ...shown, dismissed: sentMs + 99 } }) },
      'Yes: it was shown, and put away.',
      true,
    ],
    [
      'taken back',
      { delivery: delivered('withdrawn', { reason: 'taken-back', moments: shown }) },
      'It was shown, and then taken back.',
      true,
    ],
    [
      'replaced by its tag',
      { replacedMs: sentMs + 50, delivery: delivered('shown', { moments: shown }) },
      'It was shown, until a newer one',
      true,
    ],
  ])('%s', (_name, given, verdict, seen) => {
    const why = explainDelivery(evidence(given))
    expect(why.verdict).toMatch(new RegExp(`^${verdict}`))
    expect(why.seen).toBe(seen)
  })

  test('where the trail ends, what is known of the device decides what is likely', () => {
    const silent = delivered('accepted', { moments: accepted })
    const likely = (device: Partial<Evidence['device']>) =>
      explainDelivery(evidence({ delivery: silent, device })).likely
    expect(likely({})[0]).toContain('switched off or has no network')
    expect(likely({ receiptMs: sentMs + 500 })[0]).toContain('it is on')
    expect(likely({ retiredMs: sentMs + 500, retiredReason: 'token-gone' })[0]).toContain('the app was probably gone')
    expect(likely({ permission: 'denied' }).join()).toContain('does not allow notifications by now')
  })

  test('names the gateway, the credential and the answer of that moment', () => {
    const answer = { gateway: 'https://gateway.example', credential: 'signing-key 0011', status: 200, says: '' }
    const says = (more: Parameters<typeof evidence>[0]) => explainDelivery(evidence(more)).steps.map((one) => one.says)
    expect(says({ answer, delivery: delivered('shown', { moments: shown, attempts: 2 }) })).toContain(
      'The gateway accepted it at try 2: https://gateway.example, asked with the credential signing-key 0011, answered 200.',
    )
    const refusal = { ...answer, credential: null, status: 410, says: '{"why":"gone"}' }
    expect(says({ answer: refusal, delivery: delivered('refused', { reason: 'token-gone' }) })).toContain(
      'The gateway said no: https://gateway.example answered 410: {"why":"gone"}.',
    )
    expect(says({ delivery: delivered('refused', { reason: 'token-gone' }) }).join()).not.toContain('answered')
  })

  test('a device that was faster than our record is told so, and its steps stay in their order', () => {
    const early = { accepted: sentMs + 30_020, received: sentMs + 20, shown: sentMs + 20 }
    const why = explainDelivery(evidence({ delivery: delivered('shown', { moments: early }) }))
    const says = why.steps.map((one) => one.says)
    const [took, clocks, arrived] = ['The gateway accepted it', 'Two clocks disagree', 'It arrived'].map((start) =>
      says.findIndex((one) => one.startsWith(start)),
    )
    expect([took! >= 0, clocks === took! + 1, arrived === clocks! + 1]).toEqual([true, true, true])
    expect(says[clocks!]).toContain('30,000 ms before')
    // What the network may explain says nothing of the clocks.
    const near = explainDelivery(
      evidence({ delivery: delivered('shown', { moments: { ...early, accepted: sentMs + 2_000 } }) }),
    )
    expect(near.steps.some(({ says }) => says.startsWith('Two clocks'))).toBe(false)
  })

  test('a device that has changed hands is told of the hands that it was in', () => {
    const showed = delivered('shown', { moments: shown })
    const left = explainDelivery(evidence({ delivery: showed, person: 'left' }))
    expect([left.seen, left.steps.map(({ says }) => says)]).toEqual([
      true,
      expect.arrayContaining(['They have signed out of it since.']),
    ])
    expect(explainDelivery(evidence({ delivery: showed, person: 'came-later' })).verdict).toBe(
      'No: they signed in on this device only after the notification was sent.',
    )
  })

  test('quiet hours are told by the clock that it had then', () => {
    const quiet = delivered('skipped', { reason: 'quiet-hours', zone: 'Asia/Tokyo', moments: { skipped: sentMs } })
    expect(explainDelivery(evidence({ delivery: quiet })).steps.map(({ says }) => says)).toContain(
      'By its clock it was 09:16 in Asia/Tokyo.',
    )
  })

  test('what was shown after it had been withdrawn is told', () => {
    const late = { ...shown, withdrawn: sentMs + 15 }
    const { steps, verdict, seen } = explainDelivery(
      evidence({ delivery: delivered('withdrawn', { reason: 'taken-back', moments: late }) }),
    )
    expect([verdict, seen]).toEqual(['It was shown, and then taken back.', true])
    expect(steps.map(({ says }) => says)).toContain(
      'It had been withdrawn by then; the device did not know of that yet.',
    )
  })

  test('a withdrawn one that nobody reported as received is not told as seen', () => {
    const gone = delivered('withdrawn', { reason: 'taken-back', moments: accepted })
    expect(explainDelivery(evidence({ delivery: gone }))).toMatchObject({ seen: false })
  })

  test('every evidence gets a sentence, and nothing is seen that stopped on the way', () => {
    const moment = fc.option(fc.integer({ min: sentMs, max: sentMs + 1_000 }), { nil: undefined })
    const moments = fc.record({ accepted: moment, received: moment, shown: moment, opened: moment, dismissed: moment })
    const all = fc.record({
      state: fc.constantFrom(...deliveryStateNames),
      reason: fc.constantFrom(null, ...(Object.keys(reasons) as Reason[])),
      became: fc.constantFrom(null, ...presentations),
      moments,
      named: fc.boolean(),
      retiredMs: fc.constantFrom(null, 5, sentMs + 5),
    })
    fc.assert(
      fc.property(all, ({ state, reason, became, moments: some, named, retiredMs }) => {
        const known = Object.fromEntries(Object.entries(some).filter(([, at]) => at !== undefined))
        const delivery = delivered(state, { reason, became, moments: known })
        const why = explainDelivery(evidence({ delivery, named, device: { retiredMs } }))
        expect(why.verdict).toMatch(/\.$/)
        expect(why.steps.length).toBeGreaterThan(0)
        if (why.steps.some(({ verdict }) => verdict === 'stops')) expect(why.seen).toBe(false)
        if (why.seen) expect(why.verdict).toMatch(/^(?:Yes|It was shown)/)
      }),
    )
  })
})
