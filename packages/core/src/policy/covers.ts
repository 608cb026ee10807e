import { type Mode, type Urgency, urgencies } from '../content/content.ts'
import type { Channel } from './channel.ts'

/** For which notifications quiet hours or a cap hold. */
export type Coverage = {
  /** Only for those of these channels; for all when left out. */
  readonly channels?: readonly string[] | undefined
  /** Only for those that are less urgent than this; null: however urgent. */
  readonly belowUrgency?: Urgency | null | undefined
}

/** What of a notification decides that. */
export type Covered = {
  readonly mode: Mode
  readonly urgency: Urgency
  readonly channel: Pick<Channel, 'name' | 'quietHours' | 'caps'> | null
}

/** Whether they hold for a notification, as far as channel and urgency go. A wake shows nothing, so it disturbs nobody. */
export function covers({ channels, belowUrgency }: Coverage, { mode, urgency, channel }: Covered): boolean {
  if (mode === 'wake') return false
  if (channels !== undefined && (channel === null || !channels.includes(channel.name))) return false
  return (
    belowUrgency === undefined || belowUrgency === null || urgencies.indexOf(urgency) < urgencies.indexOf(belowUrgency)
  )
}
