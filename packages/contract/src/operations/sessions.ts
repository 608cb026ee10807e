import { z } from 'zod'
import type { RouteName } from '../routes.ts'
import * as sessions from '../schemas/session.ts'
import type { Operation } from './operation.ts'
import { done, made } from './operation.ts'

/** Who gets in, and what only the operator does. */
export const sessionsOperations = {
  signIn: {
    ...done,
    summary: 'Sign in to the console',
    caller: 'anyone',
    body: sessions.signInRequest,
    answer: sessions.session,
  },
  readSession: { ...done, summary: 'Who is signed in, and to which apps', caller: 'console', answer: sessions.session },
  signOut: { summary: 'Sign out', caller: 'console', status: 204 },
  makeSignInLink: {
    ...made,
    summary: 'Make a link that signs an account in once',
    caller: 'operator',
    body: z.strictObject({ email: z.string() }),
    answer: sessions.signInLink,
    repeats: { made: 'a sign-in link', tells: [] },
  },
  makeAccount: {
    ...made,
    summary: 'Make a console account',
    caller: 'operator',
    body: sessions.accountRequest,
    answer: sessions.account,
    repeats: 'answer',
  },
  rewrapVault: {
    ...done,
    summary: 'Put all stored secrets under a new master key, while the service runs',
    caller: 'operator',
    answer: z.object({
      rewrapped: z.int(),
      unopened: z.int().describe('Secrets that no master key opens; they stay as they are.'),
    }),
  },
} as const satisfies Partial<Record<RouteName, Operation>>
