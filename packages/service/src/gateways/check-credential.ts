import { randomBytes } from 'node:crypto'
import { type CheckVerdict, connectionStep, judgeAnswer } from '@zbell/core'
import type { Address, Sendable } from '../engine/index.ts'
import { AddressNotAllowed } from '../net/index.ts'
import { NoAnswer } from '../transport/index.ts'
import { CredentialRejected } from './authorization.ts'
import type { Protocol } from './kept-client.ts'

export type Checked = { readonly verdict: CheckVerdict; readonly roundTripMs: number }

/** What is asked for: a notification that says so, for a device that cannot exist. */
export const sample = (nowMs: number): Sendable => ({
  id: '00000000-0000-7000-8000-000000000000',
  content: { title: 'A check of the credential' },
  mode: 'show',
  urgency: 'low',
  ttlSeconds: 0,
  expiresAtMs: nowMs + 60_000,
})

/** No gateway ever gives out a token of zeros and chance. */
export const impossibleToken = (): string => `0000000000000000${randomBytes(24).toString('hex')}`

/** Asks the gateway as this credential and reads its answer. Takes as long as one request may take at most. */
export async function checkProtocol(protocol: Protocol, address: Address): Promise<Checked> {
  const startMs = performance.now()
  const elapsed = () => Math.round(performance.now() - startMs)
  try {
    const { answer, outcome } = await protocol.trial(sample(Date.now()), address, true)
    const roundTripMs = elapsed()
    if (!answer || !outcome) throw new Error('a trial that was sent has an answer')
    return { verdict: judgeAnswer(outcome, answer, Date.now()), roundTripMs }
  } catch (error) {
    if (error instanceof CredentialRejected)
      return { verdict: { is: 'refused', status: error.status }, roundTripMs: elapsed() }
    if (error instanceof NoAnswer)
      return {
        verdict: { is: 'unreachable', step: connectionStep(error.code), code: error.code },
        roundTripMs: elapsed(),
      }
    if (error instanceof AddressNotAllowed) {
      return {
        verdict: { is: 'not-checkable', because: 'The push service’s address points into a private network.' },
        roundTripMs: elapsed(),
      }
    }
    throw error
  }
}
