import { randomUUID } from 'node:crypto'
import { SignJWT } from 'jose'
import { ferries } from './scenario/scenario.ts'

/** What the ferry company’s own server gives its app: that somebody who is signed in there is this passenger. */
export const signProof = (user: string, proofKey: string): Promise<string> =>
  new SignJWT({ jti: randomUUID() })
    .setProtectedHeader({ alg: 'HS256' })
    .setSubject(user)
    .setAudience(`${ferries.slug}/development`)
    .setExpirationTime('10 minutes')
    .sign(Buffer.from(proofKey))
