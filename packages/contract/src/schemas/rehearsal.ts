import { z } from 'zod'

const jwk = z.looseObject({})

/**
 * How to ring virtual handsets: where, with which gateway profile (YAML) and as whom. Between the service and the
 * handsets that run beside it; no call of the HTTP interface answers it.
 */
export const rehearsalPlan = z.object({
  ca: z.string().describe('PEM; to be trusted for these origins alone.'),
  ios: z.object({
    origin: z.string(),
    profile: z.string(),
    credential: z.object({ kind: z.literal('signing-key'), jwk, keyId: z.string(), issuer: z.string() }),
  }),
  android: z.object({
    origin: z.string(),
    profile: z.string(),
    credential: z.object({
      kind: z.literal('service-key'),
      jwk,
      keyId: z.string(),
      issuer: z.string(),
      scope: z.string(),
    }),
    facts: z.record(z.string(), z.string()),
  }),
  web: z.object({
    origin: z.string(),
    credential: z.object({ kind: z.literal('vapid-key'), jwk, subject: z.string() }),
  }),
})

/** What switches a handset on: the wishes of whoever asks, and where it finds the service. */
export const handsetOrder = z.object({
  platform: z.enum(['ios', 'android', 'web']),
  id: z.string().optional(),
  user: z.string().nullable(),
  model: z.string().optional(),
  permission: z.enum(['prompt', 'granted', 'denied']),
  locale: z.string().nullable(),
  timeZone: z.string().optional(),
  watch: z.boolean().default(false),
  service: z.object({ url: z.string(), appKey: z.string() }).optional(),
})

export type RehearsalPlan = z.infer<typeof rehearsalPlan>
