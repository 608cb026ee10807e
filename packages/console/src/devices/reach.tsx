import type { Device } from '@zbell/contract'
import { reachOf } from '@zbell/contract/words'
import { LookWord } from '../parts/states.tsx'

/** Whether a device can be rung, and if not, why. */
export function Reach({ device }: { readonly device: Device }) {
  const { why, ...look } = reachOf(device)
  return (
    <>
      <LookWord look={look} />
      {why && <span className="block text-sm text-soft">{why}</span>}
    </>
  )
}
