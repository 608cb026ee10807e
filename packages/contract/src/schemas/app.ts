import { environments, platforms } from '@zbell/core'
import { z } from 'zod'
import { instant, plainText } from './text.ts'

export const slug = z.string().regex(/^[a-z][a-z0-9-]{1,39}$/, 'wants 2 to 40 small letters, digits and hyphens')

const identifiers = z
  .strictObject({
    ios: z.string().regex(/^[A-Za-z0-9.-]{1,155}$/, 'is not a bundle identifier'),
    android: z.string().regex(/^[A-Za-z0-9_.]{1,255}$/, 'is not a package name'),
    web: z
      .url({ protocol: /^https?$/ })
      .refine((url) => new URL(url).origin === url, 'is not an origin, such as https://example.org'),
  })
  .partial()

export const appRequest = z.strictObject({ slug, name: plainText(80).min(1), identifiers: identifiers.default({}) })

export const app = z.object({ slug: z.string(), name: z.string(), identifiers, createdAt: instant }).meta({ id: 'App' })

export const keyRequest = z.strictObject({
  kind: z.enum(['backend', 'app']).describe('`backend` may do all for its app; `app` ships inside the app.'),
  environment: z.enum(environments),
  name: plainText(80).min(1),
})

export const madeKey = z
  .object({ key: z.string().describe('Answered this once; only its hash is kept.'), ...keyRequest.shape })
  .meta({ id: 'MadeKey' })

const named = {
  environment: z.enum(environments),
  jwk: z.record(z.string(), z.json()).describe('The private key, RFC 7517.'),
}

export const credentialRequest = z.discriminatedUnion('kind', [
  z.strictObject({
    kind: z.literal('signing-key'),
    platform: z.enum(platforms),
    ...named,
    keyId: z.string().max(100),
    issuer: z.string().max(200),
  }),
  z.strictObject({
    kind: z.literal('service-key'),
    platform: z.enum(platforms),
    ...named,
    keyId: z.string().max(100),
    issuer: z.string().max(200),
    scope: z.string().max(500),
  }),
  z.strictObject({
    kind: z.literal('vapid-key'),
    platform: z.literal('web'),
    ...named,
    subject: z
      .string()
      .regex(/^(mailto:|https:)/, 'wants mailto: or https:, so that push services can reach the sender'),
  }),
])

export const credential = z
  .object({
    kind: z.enum(['signing-key', 'service-key', 'vapid-key']),
    platform: z.enum(platforms),
    environment: z.enum(environments),
    fingerprint: z.string().describe('The key’s RFC 7638 thumbprint.'),
    createdAt: instant,
  })
  .meta({ id: 'Credential', description: 'What is known of a credential; never the secret.' })

export type App = z.infer<typeof app>
export type CredentialRequest = z.infer<typeof credentialRequest>
