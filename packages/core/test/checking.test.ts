import { describe, expect, test } from '@jest/globals'
import { type CheckVerdict, connectionStep, expiryDue, judgeAnswer, type Outcome, sayVerdict } from '../src/index.ts'

const now = Date.parse('2026-01-01T12:00:00Z')
const answer = (status: number, date?: string) => ({ status, headers: { date }, body: '' })
const refused = (
  reason: 'credential-rejected' | 'wrong-environment' | 'bad-request' | 'unexpected-answer',
): Outcome => ({ is: 'refused', reason })

describe('a check of a credential', () => {
  test.each([
    ['a gateway that misses only the device took the credential', { is: 'token-gone' }, answer(410), { is: 'works' }],
    ['so did one that finds the token malformed', refused('bad-request'), answer(400), { is: 'works' }],
    ['so did one that is busy', { is: 'busy' }, answer(429), { is: 'works' }],
    [
      'one that takes what is for nobody says nothing of the credential',
      { is: 'accepted' },
      answer(200),
      { is: 'not-checkable', because: expect.stringContaining('says nothing of the credential') },
    ],
    ['a refusal is a refusal', refused('credential-rejected'), answer(403), { is: 'refused', status: 403 }],
    [
      'a refusal with clocks that agree is one too',
      refused('credential-rejected'),
      answer(403, 'Thu, 01 Jan 2026 12:00:40 GMT'),
      { is: 'refused', status: 403 },
    ],
    [
      'a clock that is ahead is found',
      refused('credential-rejected'),
      answer(403, 'Thu, 01 Jan 2026 11:50:00 GMT'),
      { is: 'clock-off', seconds: 600 },
    ],
    [
      'a clock that is behind is found',
      refused('credential-rejected'),
      answer(403, 'Thu, 01 Jan 2026 12:05:00 GMT'),
      { is: 'clock-off', seconds: -300 },
    ],
    ['the wrong environment is told apart', refused('wrong-environment'), answer(400), { is: 'wrong-environment' }],
    [
      'a gateway in trouble says nothing of the credential',
      { is: 'unavailable' },
      answer(503),
      { is: 'unexplained', status: 503 },
    ],
    [
      'nor does an answer that nobody explains',
      refused('unexpected-answer'),
      answer(302),
      { is: 'unexplained', status: 302 },
    ],
  ] as const)('%s', (_name, outcome, given, verdict) => {
    expect(judgeAnswer(outcome, given, now)).toEqual(verdict)
  })

  test.each([
    ['ENOTFOUND', 'name'],
    ['ECONNREFUSED', 'tcp'],
    ['UNABLE_TO_VERIFY_LEAF_SIGNATURE', 'tls'],
    ['CERT_HAS_EXPIRED', 'tls'],
    ['ERR_TLS_CERT_ALTNAME_INVALID', 'tls'],
    ['ECONNRESET', 'http'],
    ['ERR_HTTP2_ERROR', 'http'],
    ['ETIMEDOUT', 'time'],
  ] as const)('%s fails at the step %s', (code, step) => {
    expect(connectionStep(code)).toBe(step)
  })

  test('every verdict is said in whole sentences', () => {
    const verdicts: CheckVerdict[] = [
      { is: 'works' },
      { is: 'refused', status: 403 },
      { is: 'wrong-environment' },
      { is: 'clock-off', seconds: -90 },
      { is: 'unreachable', step: 'tls', code: 'CERT_HAS_EXPIRED' },
      { is: 'unexplained', status: 500 },
      { is: 'not-checkable', because: 'No browser has registered yet.' },
    ]
    for (const verdict of verdicts) expect(sayVerdict(verdict)).toMatch(/^[A-Z].*\.$/)
    expect(sayVerdict(verdicts[3]!)).toContain('90 seconds behind')
  })
})

test.each([
  [61, undefined],
  [60, 60],
  [31, 60],
  [29.5, 30],
  [14, 14],
  [7.2, 14],
  [6.9, 7],
  [0.5, 1],
  [-1, 0],
])('%p days before its end the announcement of %p days is due', (days, due) => {
  expect(expiryDue(now + days * 86_400_000, now)).toBe(due)
})
