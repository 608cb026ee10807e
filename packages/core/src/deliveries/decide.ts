import type { Mode } from '../content/content.ts'
import type { Reachability } from '../devices/device.ts'
import type { Reason } from './reasons.ts'

/** Whether to ring a device: `undefined` to send, or the reason to skip it. A `wake` shows nothing, so it asks no leave. */
export function reasonToSkip(device: Reachability, mode: Mode): Reason | undefined {
  if (device.retired) return 'unregistered'
  if (mode === 'wake') return undefined
  if (device.permission === 'denied') return 'permission-denied'
  if (device.permission === 'prompt') return 'permission-not-asked'
  if (device.muted) return 'muted'
  return undefined
}
