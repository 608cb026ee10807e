import type { AnswerRow } from '../gateways/profile.ts'

/** What a push service's answers mean (RFC 8030 §5 and §7, RFC 8292 §4.2). */
export const pushServiceAnswers: readonly AnswerRow[] = [
  { status: [201, 202], outcome: 'accepted', reference: 'location' },
  { status: [404, 410], outcome: 'token-gone' },
  { status: 413, outcome: 'too-large' },
  { status: 429, outcome: 'busy' },
  { status: [401, 403], outcome: 'credential-rejected' },
  { status: 400, outcome: 'bad-request' },
  { status: '5xx', outcome: 'unavailable' },
]
