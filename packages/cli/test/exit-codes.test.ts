import { expect, test } from '@jest/globals'
import type { ProblemCode } from '@zbell/contract'
import { problems } from '@zbell/contract'
import { ProblemError, UnreachableError } from '@zbell/contract/client'
import { exitCodes, sayFailure, UsageError } from '../src/exit-codes.ts'

const refused = (code: ProblemCode) => {
  const { status, title, remedy } = problems[code]
  return new ProblemError({ type: `urn:${code}`, code, status, title, detail: title, remedy, requestId: 'r' })
}

test.each([
  ['unknown-key', exitCodes.notAllowed],
  ['not-allowed', exitCodes.notAllowed],
  ['unknown-notification', exitCodes.notFound],
  ['invalid-request', exitCodes.invalid],
  ['idempotency-mismatch', exitCodes.invalid],
  ['too-many-requests', exitCodes.tryLater],
  ['database-unavailable', exitCodes.tryLater],
  ['database-busy', exitCodes.tryLater],
  ['internal-error', exitCodes.internal],
] as const)('the refusal %s ends a command with %i, and is one sentence with what to do', (code, exit) => {
  const { text, code: ended } = sayFailure(refused(code))
  expect(ended).toBe(exit)
  expect(text).toMatch(/^[^;]+; .+\.$/s)
})

test('a wrong call, nobody at the address and a fault of zbell have codes of their own', () => {
  expect(sayFailure(new UsageError('no')).code).toBe(exitCodes.usage)
  expect(sayFailure(new UnreachableError('nobody answers')).code).toBe(exitCodes.unreachable)
  expect(sayFailure(new Error('oh')).code).toBe(exitCodes.internal)
})

test('a refusal that names several places says each on a line of its own', () => {
  const { title, status, remedy } = problems['invalid-request']
  const errors = [
    { pointer: '/caps/0/most', detail: 'is missing; a whole number is wanted' },
    { pointer: '/caps/1/hours', detail: 'has to be at least 1' },
  ]
  const problem = {
    type: 'urn:x',
    code: 'invalid-request' as const,
    status,
    title,
    detail: title,
    remedy,
    requestId: 'r',
    errors,
  }
  expect(sayFailure(new ProblemError(problem)).text.split('\n').slice(1)).toEqual([
    '  /caps/0/most: is missing; a whole number is wanted',
    '  /caps/1/hours: has to be at least 1',
  ])
})
