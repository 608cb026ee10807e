/** Why a delivery ended where nobody saw it. `does` says what to do about it; the wording lives here and nowhere else. */
export const reasons = {
  'permission-denied': {
    code: 1,
    says: 'The user does not allow notifications on this device.',
    does: 'Show in the app what they would be good for, and where the system’s settings let the user allow them.',
  },
  'permission-not-asked': {
    code: 2,
    says: 'The app has not asked for permission on this device yet.',
    does: 'Ask at a moment when the user sees what it is for; the device can be rung as soon as it answers yes.',
  },
  muted: {
    code: 3,
    says: 'The user turned notifications off inside the app.',
    does: 'Nothing: it was the user’s choice. They can turn them on again in the app.',
  },
  'token-gone': {
    code: 4,
    says: 'The gateway says that this token belongs to no installation any more.',
    does: 'Nothing: the device was retired and comes back by itself when the app registers again.',
  },
  'no-credential': {
    code: 5,
    says: 'No credential is stored for this platform and environment.',
    does: 'Store one for the platform in this environment, then send again.',
  },
  'no-gateway': {
    code: 6,
    says: 'No gateway profile is set for this platform and environment.',
    does: 'Save a gateway profile for the platform in this environment, then send again.',
  },
  'credential-elsewhere': {
    code: 30,
    says: 'The gateway profile leads to an origin that the credential in use was not handed in for.',
    does: 'Hand the credential in again if the origin is right, or let the operator save the profile, then send again.',
  },
  'missing-fact': {
    code: 27,
    says: 'The gateway profile speaks of a fact of the account that the credential in use does not say.',
    does: 'Give the credential the fact, or hand in the key file anew, then send again.',
  },
  'profile-at-fault': {
    code: 28,
    says: 'The gateway profile makes no request that could be sent, or takes too long to make one.',
    does: 'Try the profile with this content, mend what it names, and send again.',
  },
  'credential-rejected': {
    code: 7,
    says: 'The gateway did not accept the credential.',
    does: 'Check that the credential is the one for this app and environment and is still valid, then send again.',
  },
  'wrong-environment': {
    code: 8,
    says: 'The gateway says that this token belongs to the other environment.',
    does: 'Register the app’s development and production builds each with the app key of their own environment.',
  },
  'too-large': {
    code: 9,
    says: 'The message is larger than the gateway takes.',
    does: 'Shorten the body or move data behind the place to navigate to.',
  },
  'bad-request': {
    code: 10,
    says: 'The gateway did not understand the request.',
    does: 'Check the gateway profile against the platform’s documentation.',
  },
  'unexpected-answer': {
    code: 11,
    says: 'The gateway gave an answer that its profile does not explain.',
    does: 'Add the answer to the gateway profile.',
  },
  'gateway-busy': {
    code: 12,
    says: 'The gateway asked to wait for longer than the notification was allowed to live.',
    does: 'Give the notification a longer ttlSeconds, or send at a quieter time.',
  },
  'gateway-unreachable': {
    code: 13,
    says: 'The gateway could not be reached within the notification’s lifetime.',
    does: 'Check the network and the gateway’s origin, then send again.',
  },
  'expired-in-queue': {
    code: 14,
    says: 'The notification’s lifetime was over before its turn came.',
    does: 'Give the notification a longer ttlSeconds.',
  },
  'address-not-allowed': {
    code: 15,
    says: 'The device’s push address leads where the service may not call.',
    does: 'Allow private push addresses in the configuration, or list its host, if that is meant.',
  },
  'internal-fault': {
    code: 17,
    says: 'The service itself failed at this device until the notification’s lifetime was over.',
    does: 'Look for the notification’s id in the service’s log; it names the fault.',
  },
  'no-handsets': {
    code: 18,
    says: 'This is a virtual handset’s device, and no handsets run beside the service.',
    does: 'Start the service with its handsets: zbell serve --handsets.',
  },
  'missing-value': {
    code: 19,
    says: 'The text names a value that this person does not have.',
    does: 'Give the notification a fallback for it, or set the attribute.',
  },
  cancelled: {
    code: 20,
    says: 'The notification was cancelled before this device’s turn came.',
    does: 'Nothing: somebody decided so. Send again to reach whoever is left.',
  },
  superseded: {
    code: 21,
    says: 'A newer notification with the same tag had gone to this device already.',
    does: 'Nothing: the newer one is what the user should see.',
  },
  'taken-back': {
    code: 22,
    says: 'The notification was withdrawn after it had gone to this device.',
    does: 'Nothing: the device was told to remove what it showed.',
  },
  'channel-blocked': {
    code: 23,
    says: 'The system blocks the notification’s channel on this device.',
    does: 'Nothing: it was the user’s choice, in the system’s settings. Other channels still ring.',
  },
  'channel-muted': {
    code: 24,
    says: 'The person muted the notification’s channel inside the app.',
    does: 'Nothing: it was the person’s choice. Other channels still ring.',
  },
  'quiet-hours': {
    code: 25,
    says: 'It came in quiet hours, in which it does not ring.',
    does: 'Send at another hour, with the urgency high, or on a channel for which quiet hours do not hold.',
  },
  'over-cap': {
    code: 26,
    says: 'The person had got as many as a cap allows.',
    does: 'Nothing, if that is what the cap is for; otherwise change the cap, or use a channel that it does not hold for.',
  },
  'push-service-silent': {
    code: 29,
    says: 'The browser’s push service has never answered, while others did.',
    does: 'Nothing: the device was retired and comes back by itself when its page registers again. For a push service of your own, see that it can be reached.',
  },
  unregistered: {
    code: 16,
    says: 'The device unregistered after the notification was accepted.',
    does: 'Nothing: it comes back by itself when the app registers again.',
  },
} as const

export type Reason = keyof typeof reasons

const byCode = new Map(Object.entries(reasons).map(([name, { code }]) => [code as number, name as Reason]))

/** @throws {RangeError} for a code that no catalogue of ours ever gave out */
export function reasonOfCode(code: number): Reason {
  const reason = byCode.get(code)
  if (!reason) throw new RangeError(`no reason has the code ${code}`)
  return reason
}

/** Says a reason in one line: what happened, and what to do. */
export const sayReason = (reason: Reason): string => `${reasons[reason].says} ${reasons[reason].does}`
