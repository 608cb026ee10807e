import {
  type Evaluate,
  factsSpokenOf,
  type GatewayProfile,
  type Holds,
  RequestShaper,
  readsGoodBodies,
} from '@zbell/core'
import type { AddressGuard } from '../net/index.ts'

/** A profile that is ready for use. */
export type ReadyProfile = {
  readonly profile: GatewayProfile
  readonly shaper: RequestShaper
  /** Whether a condition of its table holds. */
  readonly holds: Holds
  /** Whether its table has to see what good answers say. */
  readonly readsGoodBodies: boolean
  /** Facts of the account that its request cannot do without. */
  readonly facts: readonly string[]
  /** Certificates to trust for this gateway besides the others; PEM. */
  readonly ca: readonly string[]
  /** Which of its origins may be called. */
  readonly guard: AddressGuard
}

/** @param ca besides those that stand in the profile */
export const readyProfile = (
  profile: GatewayProfile,
  { evaluate, guard, ca = [] }: { evaluate: Evaluate; guard: AddressGuard; ca?: readonly string[] },
): ReadyProfile => ({
  profile,
  shaper: new RequestShaper(profile, evaluate),
  // One that fails does not hold: the rows below it are still there.
  holds: (when, seen) =>
    evaluate([when], seen).then(
      ([text]) => text === 'true',
      () => false,
    ),
  readsGoodBodies: readsGoodBodies(profile.answers),
  facts: factsSpokenOf(profile),
  ca: profile.ca === undefined ? ca : [...ca, profile.ca],
  guard,
})
