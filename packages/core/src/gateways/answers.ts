import { type Answered, answeredOf, type GatewayAnswer, type Outcome } from './outcome.ts'
import type { AnswerRow } from './profile.ts'
import { retryAfterMs } from './retry-after.ts'

/**
 * Explains an answer by the first row of the table that fits it. What no row explains is refused as
 * `unexpected-answer`, or, from status 500 on, worth another try.
 * @param nowMs for a Retry-After that is a date
 */
export function explainAnswer(rows: readonly AnswerRow[], answer: GatewayAnswer, nowMs: number): Outcome {
  const row = rows.find((candidate) => fits(candidate, answer))
  const answered = answeredOf(answer)
  if (!row)
    return answer.status >= 500
      ? waiting('unavailable', answered, answer, nowMs)
      : { is: 'refused', reason: 'unexpected-answer', answered }
  switch (row.outcome) {
    case 'accepted': {
      const ref = row.reference === undefined ? undefined : answer.headers[row.reference.toLowerCase()]
      return { is: 'accepted', ref: ref?.slice(0, 64), answered }
    }
    case 'busy':
    case 'unavailable':
      return waiting(row.outcome, answered, answer, nowMs)
    case 'token-gone':
      return { is: 'token-gone', answered }
    case 'credential-rejected':
    case 'wrong-environment':
    case 'too-large':
    case 'bad-request':
      return { is: 'refused', reason: row.outcome, answered }
    default:
      return row.outcome satisfies never
  }
}

function waiting(is: 'busy' | 'unavailable', answered: Answered, answer: GatewayAnswer, nowMs: number): Outcome {
  return { is, retryAfterMs: retryAfterMs(answer.headers['retry-after'], nowMs), answered }
}

function fits(row: AnswerRow, answer: GatewayAnswer): boolean {
  const statuses = Array.isArray(row.status) ? row.status : [row.status]
  const hit = statuses.some((s) =>
    typeof s === 'number' ? s === answer.status : s === `${Math.floor(answer.status / 100)}xx`,
  )
  if (!hit) return false
  return row.field === undefined || jsonField(answer.body, row.field) === row.equals
}

/** The value that a JSON Pointer (RFC 6901) finds in a text; `undefined` when the text is no JSON or has no such place. */
export function jsonField(text: string, pointer: string): unknown {
  let value: unknown
  try {
    value = JSON.parse(text)
  } catch {
    return undefined // An answer that is no JSON has no fields; the next rows see it.
  }
  for (const step of pointer.split('/').slice(1)) {
    if (typeof value !== 'object' || value === null) return undefined
    const name = step.replaceAll('~1', '/').replaceAll('~0', '~')
    if (!Object.hasOwn(value, name)) return undefined
    value = (value as Record<string, unknown>)[name]
  }
  return value
}
