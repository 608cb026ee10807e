import { z } from 'zod'

/** How a stand-in behaves; what is told to it counts from the next request on. Shares are between 0 and 1. */
export const faultProfile = z.strictObject({
  delayMs: z.int().min(0).max(60_000).default(0).describe('Every answer comes so late.'),
  busyShare: z.number().min(0).max(1).default(0).describe('This share is answered "busy, come back".'),
  busyForSeconds: z.int().min(0).max(3_600).default(1),
  goneShare: z.number().min(0).max(1).default(0).describe('This share is answered "no such token any more".'),
  refusing: z.boolean().default(false).describe('The credential is refused.'),
  failing: z.boolean().default(false).describe('Every answer is a fault of the gateway’s own.'),
})
export type FaultProfile = z.infer<typeof faultProfile>

export type Verdict = 'take' | 'busy' | 'gone' | 'refuse' | 'fail'

/** @param unit chance in [0, 1) */
export function verdict(now: FaultProfile, unit: number): Verdict {
  if (now.failing) return 'fail'
  if (now.refusing) return 'refuse'
  if (unit < now.busyShare) return 'busy'
  if (unit < now.busyShare + now.goneShare) return 'gone'
  return 'take'
}

/** What a stand-in has counted: to be held against the service's own totals. */
export type Books = { taken: number; busy: number; gone: number; refused: number; failed: number }
export const emptyBooks = (): Books => ({ taken: 0, busy: 0, gone: 0, refused: 0, failed: 0 })
