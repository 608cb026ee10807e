import { z } from 'zod'
import { app } from './app.ts'
import { role } from './role.ts'

const email = z.email('is not an e-mail address').max(200)

export const accountRequest = z.strictObject({
  email,
  name: z.string().min(1).max(80),
  role,
  password: z
    .string()
    .min(12, 'wants 12 characters at least')
    .max(200)
    .refine((text) => new Set(text).size >= 5, 'has the same few characters again and again'),
})
export const account = z.object({ email: z.string(), name: z.string(), role }).meta({ id: 'Account' })

export const signInRequest = z.union([
  z.strictObject({ email, password: z.string().max(200) }),
  z.strictObject({ link: z.string().max(200).describe('What stands behind the # of a sign-in link.') }),
])

export const session = z
  .object({
    account,
    csrf: z.string().describe('To be sent back as X-Bell-Csrf with everything that changes something.'),
    apps: z.array(app),
  })
  .meta({ id: 'Session' })

export const signInLink = z.object({ link: z.string(), expiresAt: z.string() }).meta({ id: 'SignInLink' })

export type Session = z.infer<typeof session>
