import type { Environment, Platform } from '../devices/device.ts'
import { type CheckVerdict, expiryDue, sayVerdict } from '../gateways/check.ts'

/** The way from nothing to a ring, in the order in which it is gone. */
export const setupSteps = ['identifier', 'profile', 'credential', 'gateway', 'device', 'ring', 'receipt'] as const
export type SetupStepName = (typeof setupSteps)[number]

/** `rehearsed`: it happened with virtual handsets; a platform's own devices are still to come. */
export const setupStates = ['done', 'rehearsed', 'open', 'trouble'] as const
export type SetupState = (typeof setupStates)[number]

/** What a person does about a step; each interface offers it in its own way. */
export const setupActions = [
  'give-identifier',
  'hand-in-credential',
  'save-profile',
  'check-credential',
  'make-app-key',
  'register-device',
  'send',
  'look-at-device',
] as const
export type SetupAction = (typeof setupActions)[number]

/** Whether and when something happened, on platforms' own devices and on virtual handsets. */
export type Happened = { readonly atMs?: number | undefined; readonly rehearsedAtMs?: number | undefined }

/** What is known of one platform in one environment. */
export type SetupFacts = {
  readonly platform: Platform
  readonly environment: Environment
  readonly identifier: string | undefined
  /** The web needs no profile. */
  readonly profile:
    | { readonly name: string; readonly origin?: string | undefined; readonly outdatedFrom?: string | undefined }
    | undefined
  readonly credential:
    | {
        readonly kind: string
        readonly addedAtMs: number
        readonly notAfterMs: number | undefined
        readonly rejected: boolean
        /** Where the profile leads, when the credential was not added for that. */
        readonly elsewhere?: string | undefined
        readonly check: { readonly verdict: CheckVerdict; readonly atMs: number } | undefined
      }
    | undefined
  readonly appKeys: number
  readonly device: Happened
  readonly accepted: Happened
  readonly received: Happened
}

export type SetupStep = {
  readonly step: SetupStepName
  readonly state: SetupState
  readonly detail: string
  /** What to do; nothing when it is done. */
  readonly remedy: string | undefined
  readonly action: SetupAction | undefined
  readonly atMs: number | undefined
}

type Outcome = Omit<SetupStep, 'step' | 'remedy' | 'action' | 'atMs'> &
  Partial<Pick<SetupStep, 'remedy' | 'action' | 'atMs'>>

const identifierNames: Record<Platform, string> = {
  ios: 'bundle identifier',
  android: 'package name',
  web: 'origin',
}

/**
 * Where one platform stands on its way to a ring: every step with what is known of it and what to do about it.
 * @param nowMs ms since the epoch
 */
export function wayToRing(facts: SetupFacts, nowMs: number): SetupStep[] {
  const looks: Record<SetupStepName, (facts: SetupFacts, nowMs: number) => Outcome> = {
    identifier,
    profile,
    credential,
    gateway,
    device,
    ring,
    receipt,
  }
  // The web has a standard in place of a profile.
  const steps = setupSteps.filter((step) => step !== 'profile' || facts.platform !== 'web')
  return steps.map((step) => ({
    step,
    remedy: undefined,
    action: undefined,
    atMs: undefined,
    ...looks[step](facts, nowMs),
  }))
}

/**
 * The step to take next, which always says what to do; `undefined` when the way is gone. What was only rehearsed is still to be
 * done. What is in trouble comes first, but for a missing profile: without it nothing can be asked or added.
 */
export function nextStep(steps: readonly SetupStep[]): SetupStep | undefined {
  const left = steps.filter(({ state, remedy }) => state !== 'done' && remedy !== undefined)
  const trouble = left.find(({ state }) => state === 'trouble')
  if (!trouble) return left[0]
  return left.find(({ step, state }) => step === 'profile' && state === 'open') ?? trouble
}

function identifier({ identifier: given, platform }: SetupFacts): Outcome {
  if (given !== undefined) return { state: 'done', detail: given }
  return {
    state: 'open',
    detail: `The app’s ${identifierNames[platform]} is not known.`,
    remedy:
      platform === 'web'
        ? 'Give the origin that the app’s pages come from.'
        : `Give the ${identifierNames[platform]} that the app is built with.`,
    action: 'give-identifier',
  }
}

/** It comes before the credential, which goes only where it was added for. */
function profile({ profile: given }: SetupFacts, nowMs: number): Outcome {
  if (!given)
    return {
      state: 'open',
      detail: 'There is no gateway profile yet.',
      remedy: 'Write down how to speak to the gateway: upload a profile, paste one, or begin from an example.',
      action: 'save-profile',
    }
  const { name, origin, outdatedFrom } = given
  if (outdatedFrom !== undefined && Date.parse(outdatedFrom) <= nowMs) {
    const detail = `The profile ${name} is outdated since ${outdatedFrom}.`
    return { state: 'trouble', detail, remedy: 'Save the profile that follows it.', action: 'save-profile' }
  }
  return { state: 'done', detail: origin === undefined ? name : `${name}, for ${origin}` }
}

function credential({ credential: given, platform }: SetupFacts, nowMs: number): Outcome {
  const handIn = { action: 'hand-in-credential' } as const
  if (!given) {
    const remedy =
      platform === 'web'
        ? 'Make a key pair here, or add one.'
        : 'Add the certificate or key that the platform gave you.'
    return { state: 'open', detail: 'None is in use.', remedy, ...handIn }
  }
  const what = `A ${given.kind} is in use`
  const due = given.notAfterMs === undefined ? undefined : expiryDue(given.notAfterMs, nowMs)
  if (due === 0)
    return { state: 'trouble', detail: `${what}, but it has expired.`, remedy: 'Add a new one.', ...handIn }
  if (given.elsewhere !== undefined) {
    const detail = `${what}, but it was not added for ${given.elsewhere}.`
    return {
      state: 'trouble',
      detail,
      remedy: 'Add it again: a credential goes only where that was said.',
      ...handIn,
    }
  }
  if (given.rejected) {
    const remedy = 'Check it, or add another one; what waits goes on by itself.'
    return { state: 'trouble', detail: `${what}, but the gateway refuses it.`, remedy, ...handIn }
  }
  const detail = due === undefined ? `${what}.` : `${what}; it expires within ${due} ${due === 1 ? 'day' : 'days'}.`
  return { state: 'done', detail, atMs: given.addedAtMs }
}

function gateway({ credential: given, profile: known, platform, accepted, device: there }: SetupFacts): Outcome {
  if (!given) return { state: 'open', detail: 'It can be asked once there is a credential.' }
  if (!known && platform !== 'web') return { state: 'open', detail: 'It can be asked once there is a profile.' }
  const ask = { remedy: 'Ask it.', action: 'check-credential' } as const
  const verdict = given.check?.verdict
  const atMs = given.check?.atMs
  if (verdict?.is === 'works') return { state: 'done', detail: sayVerdict(verdict), atMs }
  // A gateway that took a ring has answered better than any check could.
  if (accepted.atMs !== undefined && (!verdict || verdict.is === 'not-checkable'))
    return { state: 'done', detail: 'It took a ring.', atMs: accepted.atMs }
  if (!verdict) return { state: 'open', detail: 'It was not asked yet.', ...ask }
  // To ask it again says no more; the first ring does.
  if (verdict.is === 'not-checkable') {
    const ring =
      there.atMs === undefined
        ? {}
        : ({ remedy: 'Ring a device: the gateway’s answer tells.', action: 'send' } as const)
    return { state: 'open', detail: sayVerdict(verdict), ...ring, atMs }
  }
  return { state: 'trouble', detail: sayVerdict(verdict), ...ask, atMs }
}

function device({ device: given, appKeys, platform }: SetupFacts): Outcome {
  if (given.atMs !== undefined) return { state: 'done', detail: 'A device is registered.', atMs: given.atMs }
  const open =
    appKeys === 0
      ? ({ remedy: 'Make an app key; it ships inside the app.', action: 'make-app-key' } as const)
      : ({
          remedy:
            platform === 'web' ? 'Open the app in a browser and say yes.' : 'Start the app on a device and say yes.',
          action: 'register-device',
        } as const)
  if (given.rehearsedAtMs !== undefined)
    return { state: 'rehearsed', detail: 'A virtual handset is registered.', ...open, atMs: given.rehearsedAtMs }
  return { state: 'open', detail: 'No device is registered yet.', ...open }
}

function ring({ accepted, device: given }: SetupFacts): Outcome {
  if (accepted.atMs !== undefined)
    return { state: 'done', detail: 'The gateway accepted the first ring.', atMs: accepted.atMs }
  const anyDevice = given.atMs !== undefined || given.rehearsedAtMs !== undefined
  const send = anyDevice ? ({ remedy: 'Ring it.', action: 'send' } as const) : {}
  if (accepted.rehearsedAtMs !== undefined)
    return { state: 'rehearsed', detail: 'A virtual handset was rung.', ...send, atMs: accepted.rehearsedAtMs }
  return { state: 'open', detail: 'Nothing has rung yet.', ...send }
}

function receipt({ received, accepted }: SetupFacts): Outcome {
  if (received.atMs !== undefined) return { state: 'done', detail: 'A device reported back.', atMs: received.atMs }
  const look =
    accepted.atMs === undefined
      ? {}
      : ({
          remedy: 'Look at the device, and whether the app hands on what arrives to the kit.',
          action: 'look-at-device',
        } as const)
  if (received.rehearsedAtMs !== undefined)
    return { state: 'rehearsed', detail: 'A virtual handset reported back.', ...look, atMs: received.rehearsedAtMs }
  return { state: 'open', detail: 'No receipt has come back yet.', ...look }
}
