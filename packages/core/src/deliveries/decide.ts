import type { Mode } from '../content/content.ts'
import type { Reachability } from '../devices/device.ts'
import type { Reason } from './reasons.ts'

/** A fact about a device that keeps it from being rung, and the reason that is then given. */
export type Obstacle = {
  readonly [F in keyof Reachability]-?: {
    readonly fact: F
    readonly is: NonNullable<Reachability[F]>
    readonly reason: Reason
    /** It keeps the device from being woken, too: a `wake` shows nothing, so it asks no leave. */
    readonly stopsWake: boolean
  }
}[keyof Reachability]

/** The first that holds is the reason. A decision in memory and a question to the database are both made from this table. */
export const obstacles: readonly Obstacle[] = [
  { fact: 'retired', is: true, reason: 'unregistered', stopsWake: true },
  { fact: 'permission', is: 'denied', reason: 'permission-denied', stopsWake: false },
  { fact: 'permission', is: 'prompt', reason: 'permission-not-asked', stopsWake: false },
  { fact: 'muted', is: true, reason: 'muted', stopsWake: false },
  { fact: 'channelBlocked', is: true, reason: 'channel-blocked', stopsWake: false },
  { fact: 'channelMuted', is: true, reason: 'channel-muted', stopsWake: false },
]

const ofShow: readonly Obstacle[] = obstacles
const ofWake = obstacles.filter(({ stopsWake }) => stopsWake)

/** What can keep a notification of this mode from ringing. */
export const obstaclesTo = (mode: Mode): readonly Obstacle[] => (mode === 'wake' ? ofWake : ofShow)

/** Whether to ring a device: `undefined` to send, or the reason to skip it. */
export function reasonToSkip(device: Reachability, mode: Mode): Reason | undefined {
  for (const { fact, is, reason } of obstaclesTo(mode)) if (device[fact] === is) return reason
  return undefined
}
