import type { DeliveryState, StepVerdict } from '@zbell/core'
import type { Look } from './looks.ts'

/** In the order of a delivery's road, each state with what it means. */
export const deliveryLooks: Readonly<Record<DeliveryState, Look & { readonly means: string }>> = {
  queued: { tone: 'wait', shape: '◌', word: 'queued', means: 'waits for its turn' },
  accepted: { tone: 'wait', shape: '◔', word: 'accepted', means: 'the gateway accepted it' },
  received: { tone: 'good', shape: '◑', word: 'received', means: 'arrived on the device' },
  shown: { tone: 'good', shape: '●', word: 'shown', means: 'was shown' },
  dismissed: { tone: 'good', shape: '◓', word: 'dismissed', means: 'was dismissed' },
  opened: { tone: 'good', shape: '◉', word: 'opened', means: 'was opened' },
  skipped: { tone: 'quiet', shape: '–', word: 'skipped', means: 'was not sent, on purpose' },
  refused: { tone: 'bad', shape: '✕', word: 'refused', means: 'the gateway refused it' },
  expired: { tone: 'bad', shape: '◷', word: 'expired', means: 'ran out of time' },
  withdrawn: { tone: 'quiet', shape: '↶', word: 'withdrawn', means: 'was withdrawn' },
}

export const deliveryOrder = Object.keys(deliveryLooks) as DeliveryState[]

/** What a step of an explanation says about the delivery. */
export const stepLooks: Readonly<Record<StepVerdict, Look>> = {
  good: { tone: 'good', shape: '✓', word: 'succeeded' },
  stops: { tone: 'bad', shape: '✕', word: 'stops here' },
  unsure: { tone: 'wait', shape: '?', word: 'not known' },
  note: { tone: 'quiet', shape: '·', word: 'to know' },
}
