import { jsonField, jsonOf } from './json-pointer.ts'
import { type Answered, answeredOf, type GatewayAnswer, type Outcome } from './outcome.ts'
import type { AnswerPlace, AnswerRow } from './profile.ts'
import { retryAfterMs } from './retry-after.ts'

/** What a condition of a row speaks of; the body is what its JSON says, or else its text. */
export type SeenAnswer = {
  readonly status: number
  readonly headers: GatewayAnswer['headers']
  readonly body: unknown
}

/** Whether a condition holds for an answer. */
export type Holds = (when: string, seen: SeenAnswer) => Promise<boolean>

/**
 * Explains an answer by the first row of the table that fits it. What no row explains is refused as
 * `unexpected-answer`, or, from status 500 on, worth another try.
 * @param nowMs for a Retry-After that is a date
 * @param holds asked for rows with a condition; without it none of them fits
 * @returns at once, unless a condition has to be asked about
 */
export function explainAnswer(rows: readonly AnswerRow[], answer: GatewayAnswer, nowMs: number): Outcome
export function explainAnswer(
  rows: readonly AnswerRow[],
  answer: GatewayAnswer,
  nowMs: number,
  holds: Holds,
): Outcome | Promise<Outcome>
export function explainAnswer(
  rows: readonly AnswerRow[],
  answer: GatewayAnswer,
  nowMs: number,
  holds?: Holds,
): Outcome | Promise<Outcome> {
  // By number: this is done for each answer of a broadcast.
  for (let at = 0; at < rows.length; at++) {
    const row = rows[at]!
    if (!fits(row, answer)) continue
    if (row.when === undefined) return outcomeOf(row, answer, nowMs)
    if (holds)
      return holds(row.when, seen(answer)).then((does) =>
        does ? outcomeOf(row, answer, nowMs) : explainAnswer(rows.slice(at + 1), answer, nowMs, holds),
      )
  }
  const answered = answeredOf(answer)
  return answer.status >= 500
    ? waiting('unavailable', undefined, answered, answer, nowMs)
    : { is: 'refused', reason: 'unexpected-answer', answered }
}

function outcomeOf(row: AnswerRow, answer: GatewayAnswer, nowMs: number): Outcome {
  const answered = answeredOf(answer)
  switch (row.outcome) {
    case 'accepted':
      return { is: 'accepted', ref: reference(row, answer), answered }
    case 'busy':
    case 'unavailable':
      return waiting(row.outcome, row.retryAfter, answered, answer, nowMs)
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

/** A gateway's id of what it accepted is kept as far as it fits. */
const referenceCharacters = 64

function reference({ reference: place }: AnswerRow, answer: GatewayAnswer): string | undefined {
  if (place === undefined) return undefined
  const found = at(typeof place === 'string' ? { header: place } : place, answer)
  return typeof found === 'string' || typeof found === 'number'
    ? String(found).slice(0, referenceCharacters)
    : undefined
}

const at = (place: AnswerPlace, answer: GatewayAnswer): unknown =>
  'header' in place ? answer.headers[place.header.toLowerCase()] : jsonField(answer.body, place.body)

function waiting(
  is: 'busy' | 'unavailable',
  place: AnswerPlace | undefined,
  answered: Answered,
  answer: GatewayAnswer,
  nowMs: number,
): Outcome {
  const own = place && retryAfterMs(at(place, answer), nowMs)
  return { is, retryAfterMs: own ?? retryAfterMs(answer.headers['retry-after'], nowMs), answered }
}

const seen = ({ status, headers, body }: GatewayAnswer): SeenAnswer => {
  const read = jsonOf(body)
  return { status, headers: { ...headers }, body: read ? read.value : body }
}

function fits(row: AnswerRow, answer: GatewayAnswer): boolean {
  if (!hits(row, answer.status)) return false
  return row.field === undefined || at({ body: row.field }, answer) === row.equals
}

function hits({ status }: AnswerRow, given: number): boolean {
  if (status === undefined) return true
  const statuses = Array.isArray(status) ? status : [status]
  return statuses.some((one) => (typeof one === 'number' ? one === given : one === `${Math.floor(given / 100)}xx`))
}

/** Whether a table has to see what good answers say: beyond their head they are not read otherwise. */
export const readsGoodBodies = (rows: readonly AnswerRow[]): boolean =>
  rows.some(
    (row) =>
      [200, 201, 202, 203, 204, 205, 206, 207, 208, 226].some((good) => hits(row, good)) &&
      (row.field !== undefined ||
        row.when !== undefined ||
        (typeof row.reference === 'object' && 'body' in row.reference)),
  )
