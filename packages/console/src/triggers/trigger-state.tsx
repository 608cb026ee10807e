import type { Trigger } from '@zbell/contract'

/** Whether a trigger is on, in a word. */
export function TriggerState({ of: { enabled, pausedBecause } }: { readonly of: Trigger }) {
  if (pausedBecause !== null && enabled) return <span className="whitespace-nowrap text-red">✕ paused</span>
  return enabled ? (
    <span className="whitespace-nowrap text-sea">● on</span>
  ) : (
    <span className="whitespace-nowrap text-soft">– off</span>
  )
}
