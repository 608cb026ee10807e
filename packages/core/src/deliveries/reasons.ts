/** Why a delivery ended where nobody saw it. `remedy` says what to do about it; the wording lives here and nowhere else. */
export const reasons = {
  'permission-denied': {
    code: 1,
    detail: 'The user does not allow notifications on this device.',
    remedy: 'Show in the app what they would be good for, and where the system’s settings let the user allow them.',
  },
  'permission-not-asked': {
    code: 2,
    detail: 'The app has not asked for permission on this device yet.',
    remedy: 'Ask at a moment when the user sees what it is for; the device can be rung as soon as it answers yes.',
  },
  muted: {
    code: 3,
    detail: 'The user turned notifications off inside the app.',
    remedy: 'Nothing: it was the user’s choice. They can turn them on again in the app.',
  },
  'token-gone': {
    code: 4,
    detail: 'The gateway says that this token belongs to no installation any more.',
    remedy: 'Nothing: the device was retired and comes back by itself when the app registers again.',
  },
  'no-credential': {
    code: 5,
    detail: 'No credential is stored for this platform and environment.',
    remedy: 'Store one for the platform in this environment, then send again.',
  },
  'no-gateway': {
    code: 6,
    detail: 'No gateway profile is set for this platform and environment.',
    remedy: 'Save a gateway profile for the platform in this environment, then send again.',
  },
  'credential-elsewhere': {
    code: 30,
    detail: 'The gateway profile leads to an origin that the credential in use was not added for.',
    remedy: 'Add the credential again if the origin is right, or let the operator save the profile, then send again.',
  },
  'missing-fact': {
    code: 27,
    detail: 'The gateway profile speaks of a fact of the account that the credential in use does not say.',
    remedy: 'Give the credential the fact, or add the key file anew, then send again.',
  },
  'profile-at-fault': {
    code: 28,
    detail: 'The gateway profile makes no request that could be sent, or takes too long to make one.',
    remedy: 'Try the profile with this content, correct what it names, and send again.',
  },
  'credential-rejected': {
    code: 7,
    detail: 'The gateway did not accept the credential.',
    remedy: 'Check that the credential is the one for this app and environment and is still valid, then send again.',
  },
  'wrong-environment': {
    code: 8,
    detail: 'The gateway says that this token belongs to the other environment.',
    remedy: 'Register the app’s development and production builds each with the app key of their own environment.',
  },
  'too-large': {
    code: 9,
    detail: 'The message is larger than the gateway takes.',
    remedy: 'Shorten the body or move data behind the place to navigate to.',
  },
  'bad-request': {
    code: 10,
    detail: 'The gateway did not understand the request.',
    remedy: 'Check the gateway profile against the platform’s documentation.',
  },
  'unexpected-answer': {
    code: 11,
    detail: 'The gateway gave an answer that its profile does not explain.',
    remedy: 'Add the answer to the gateway profile.',
  },
  'gateway-busy': {
    code: 12,
    detail: 'The gateway asked to wait for longer than the notification was allowed to live.',
    remedy: 'Give the notification a longer ttlSeconds, or send at a quieter time.',
  },
  'gateway-unreachable': {
    code: 13,
    detail: 'The gateway could not be reached within the notification’s lifetime.',
    remedy: 'Check the network and the gateway’s origin, then send again.',
  },
  'expired-in-queue': {
    code: 14,
    detail: 'The notification’s lifetime was over before its turn came.',
    remedy: 'Give the notification a longer ttlSeconds.',
  },
  'address-not-allowed': {
    code: 15,
    detail: 'The device’s push address leads where the service may not call.',
    remedy: 'Allow private push addresses in the configuration, or list its host, if that is meant.',
  },
  'internal-fault': {
    code: 17,
    detail: 'The service itself failed at this device until the notification’s lifetime was over.',
    remedy: 'Look for the notification’s id in the service’s log; it names the fault.',
  },
  'no-handsets': {
    code: 18,
    detail: 'This is a virtual handset’s device, and no handsets run beside the service.',
    remedy: 'Start the service with its handsets: zbell serve --handsets.',
  },
  'missing-value': {
    code: 19,
    detail: 'The text names a value that this person does not have.',
    remedy: 'Give the notification a fallback for it, or set the attribute.',
  },
  cancelled: {
    code: 20,
    detail: 'The notification was cancelled before this device’s turn came.',
    remedy: 'Nothing: somebody decided so. Send again to reach whoever is left.',
  },
  superseded: {
    code: 21,
    detail: 'A newer notification with the same tag had gone to this device already.',
    remedy: 'Nothing: the newer one is what the user should see.',
  },
  'taken-back': {
    code: 22,
    detail: 'The notification was withdrawn after it had gone to this device.',
    remedy: 'Nothing: the device was told to remove what it showed.',
  },
  'channel-blocked': {
    code: 23,
    detail: 'The system blocks the notification’s channel on this device.',
    remedy: 'Nothing: it was the user’s choice, in the system’s settings. Other channels still ring.',
  },
  'channel-muted': {
    code: 24,
    detail: 'The person muted the notification’s channel inside the app.',
    remedy: 'Nothing: it was the person’s choice. Other channels still ring.',
  },
  'quiet-hours': {
    code: 25,
    detail: 'It came in quiet hours, in which it does not ring.',
    remedy: 'Send at another hour, with the urgency high, or on a channel for which quiet hours do not hold.',
  },
  'over-cap': {
    code: 26,
    detail: 'The person had got as many as a cap allows.',
    remedy:
      'Nothing, if that is what the cap is for; otherwise change the cap, or use a channel that it does not hold for.',
  },
  'push-service-silent': {
    code: 29,
    detail: 'The browser’s push service has never answered, while others did.',
    remedy:
      'Nothing: the device was retired and comes back by itself when its page registers again. For a push service of your own, see that it can be reached.',
  },
  unregistered: {
    code: 16,
    detail: 'The device unregistered after the notification was accepted.',
    remedy: 'Nothing: it comes back by itself when the app registers again.',
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
export const sayReason = (reason: Reason): string => `${reasons[reason].detail} ${reasons[reason].remedy}`
