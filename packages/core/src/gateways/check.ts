import type { GatewayAnswer, Outcome } from './outcome.ts'

/** At which step a gateway could not be reached. */
export const connectionSteps = ['name', 'tcp', 'tls', 'http', 'time'] as const
export type ConnectionStep = (typeof connectionSteps)[number]

/** What a check of a credential found. */
export type CheckVerdict =
  | { readonly is: 'works' }
  | { readonly is: 'refused'; readonly status: number }
  | { readonly is: 'wrong-environment' }
  | { readonly is: 'clock-off'; readonly seconds: number }
  | { readonly is: 'unreachable'; readonly step: ConnectionStep; readonly code: string }
  | { readonly is: 'unexplained'; readonly status: number }
  | { readonly is: 'not-checkable'; readonly because: string }

/** Tokens carry their time of making; a gateway that sees them from further away than this may refuse them for it. */
const clockToleranceSeconds = 60

/**
 * Judges a gateway's answer to a request for a token that cannot exist: when it only misses the device, it took the
 * credential.
 * @param nowMs this machine's clock when the answer came
 */
export function judgeAnswer(outcome: Outcome, answer: GatewayAnswer, nowMs: number): CheckVerdict {
  switch (outcome.is) {
    case 'accepted':
      return { is: 'not-checkable', because: tookTheImpossible }
    case 'token-gone':
    case 'busy':
      return { is: 'works' }
    case 'unavailable':
      return { is: 'unexplained', status: answer.status }
    case 'refused': {
      if (outcome.reason === 'wrong-environment') return { is: 'wrong-environment' }
      if (outcome.reason === 'bad-request' || outcome.reason === 'too-large') return { is: 'works' }
      if (outcome.reason !== 'credential-rejected') return { is: 'unexplained', status: answer.status }
      const theirsMs = Date.parse(answer.headers.date ?? '')
      const seconds = Number.isNaN(theirsMs) ? 0 : Math.round((nowMs - theirsMs) / 1_000)
      return Math.abs(seconds) > clockToleranceSeconds
        ? { is: 'clock-off', seconds }
        : { is: 'refused', status: answer.status }
    }
    default:
      return outcome satisfies never
  }
}

/** A gateway that takes what is for nobody has looked at nothing: whether it looked at the credential is not known. */
const tookTheImpossible =
  'The gateway took a message for a device that cannot exist, so its answer says nothing of the credential. The first device that rings will tell; or let the profile say what this answer means.'

/** Tells from an error's code at which step a connection failed. */
export function connectionStep(code: string): ConnectionStep {
  if (code === 'ENOTFOUND' || code === 'EAI_AGAIN' || code === 'ENODATA') return 'name'
  if (code === 'ECONNREFUSED' || code === 'EHOSTUNREACH' || code === 'ENETUNREACH') return 'tcp'
  if (code === 'ETIMEDOUT') return 'time'
  if (/CERT|SELF_SIGNED|UNABLE_TO|^ERR_TLS|^ERR_SSL|^EPROTO$/.test(code)) return 'tls'
  return 'http'
}

/** A verdict in two sentences: what was found, and what to do. */
export function sayVerdict(verdict: CheckVerdict): string {
  switch (verdict.is) {
    case 'works':
      return 'It works: the gateway accepted the credential, and refused only the test token, which belongs to no device.'
    case 'refused':
      return `The gateway refuses it, with status ${verdict.status}. Check that it is the one for this app and environment, and that it was not revoked at the platform.`
    case 'wrong-environment':
      return 'It belongs to the other environment. Add it there, and here the one for this environment.'
    case 'clock-off':
      return `The gateway refuses it, and this machine’s clock is ${Math.abs(verdict.seconds)} seconds ${verdict.seconds > 0 ? 'ahead' : 'behind'}. Set the clock, then check again.`
    case 'unreachable':
      return `${stepWords[verdict.step]} (${verdict.code}).`
    case 'unexplained':
      return `The gateway answered with status ${verdict.status}, which its profile does not explain. Try again, or add the answer to the profile.`
    case 'not-checkable':
      return verdict.because
    default:
      return verdict satisfies never
  }
}

const stepWords: Record<ConnectionStep, string> = {
  name: 'The gateway’s name has no address. Check the origin in the profile, and this machine’s name service',
  tcp: 'Nobody listens at the gateway’s address. Check the origin in the profile, and the network',
  tls: 'The secure connection fails. Check the certificate authority that is trusted, and whether the gateway takes this certificate',
  http: 'The gateway closes the connection or does not speak HTTP/2. Check the origin in the profile',
  time: 'The gateway does not answer in time. Check the network, and try again',
}

/** So many days ahead the end of a certificate is announced. */
export const expiryDays = [60, 30, 14, 7, 1] as const

/**
 * The announcement that is due: the smallest number of days ahead whose time has come, or `undefined` while there is
 * none, and 0 once it is over.
 */
export function expiryDue(notAfterMs: number, nowMs: number): 0 | (typeof expiryDays)[number] | undefined {
  if (notAfterMs <= nowMs) return 0
  const days = (notAfterMs - nowMs) / 86_400_000
  return [...expiryDays].reverse().find((ahead) => days <= ahead)
}
