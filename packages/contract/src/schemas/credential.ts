import { environments, factName, factValue, platforms } from '@zbell/core'
import { z } from 'zod'
import { instant, plainText, uuid } from './text.ts'

export const credentialKinds = ['client-certificate', 'signing-key', 'service-key', 'vapid-key'] as const
export const checkVerdicts = [
  'works',
  'refused',
  'wrong-environment',
  'clock-off',
  'unreachable',
  'unexplained',
  'not-checkable',
] as const
export const credentialStates = ['requested', 'in-use', 'waiting', 'retired'] as const

const file = z.strictObject({
  name: plainText(200).optional(),
  content: z
    .base64('is not base64')
    .max(140_000, 'has more than 100,000 bytes')
    .describe('The file’s bytes, in base64.'),
})

const extras = {
  keyId: plainText(100).optional().describe('What the platform calls the key.'),
  issuer: plainText(200).optional().describe('Who signs: what the platform calls your account.'),
  scope: plainText(500).optional().describe('The scope that a service key asks for.'),
  tokenAddress: z
    .url({ protocol: /^https$/ })
    .max(500)
    .optional()
    .describe('Where a service key gets its tokens; the profile’s when left out.'),
  subject: z
    .string()
    .max(200)
    .regex(/^(mailto:|https:)/, 'wants mailto: or https:, so that push services can reach the sender')
    .optional()
    .describe('How push services reach the sender.'),
}

/** So many facts of an account a credential can say. */
const maxFacts = 20
const facts = z
  .record(factName, factValue)
  .refine((all) => Object.keys(all).length <= maxFacts, `has more than ${maxFacts} facts`)
  .describe('Facts of the account that the gateway profile speaks of, by name.')

const retires = uuid.optional().describe('The one that waits and is retired by this one; needed where there is one.')

export const credentialRequest = z.strictObject({
  platform: z.enum(platforms),
  files: z.array(file).min(1).max(5).describe('What was downloaded or made, in whatever form it has.'),
  passphrase: z.string().max(500).optional(),
  ...extras,
  facts: facts.optional(),
  use: z.boolean().default(false).describe('Put it in use at once, also when another one is.'),
  retires,
})

export const credentialChange = z.strictObject({ facts })

export const credentialMaking = z.strictObject({
  platform: z.literal('web'),
  subject: extras.subject.unwrap(),
  use: z.boolean().default(false),
  retires,
})

export const certificateRequest = z.strictObject({
  platform: z.enum(['ios', 'android']),
  commonName: plainText(64).min(1).describe('What the certificate shall be for; the platform shows it.'),
})

export const credential = z
  .object({
    id: uuid,
    kind: z.enum(credentialKinds),
    platform: z.enum(platforms),
    environment: z.enum(environments),
    state: z.enum(credentialStates).describe('`requested`: its key is here, its certificate not yet.'),
    fingerprint: z.string().nullable().describe('SHA-256 of the certificate, or the key’s RFC 7638 thumbprint.'),
    subject: z.string().nullable(),
    serial: z.string().nullable(),
    keyId: z.string().nullable(),
    issuer: z.string().nullable(),
    facts: z.record(z.string(), z.string()).describe('Facts of the account, by the names that the profile uses.'),
    origins: z
      .array(z.string())
      .describe(
        'Gateways that it was added for; beside those that the service’s configuration names, it goes nowhere else.',
      ),
    notBefore: instant.nullable(),
    notAfter: instant.nullable(),
    expiresWithinDays: z
      .int()
      .nullable()
      .describe('60, 30, 14, 7 or 1 when its end is announced; 0 when it is over; else null.'),
    gatewayOutdatedFrom: z.string().nullable().describe('From this day on its gateway is no longer spoken to so.'),
    addedAt: instant,
    addedBy: z.string(),
    retiredAt: instant.nullable(),
    retiredBy: z.string().nullable(),
    usedAt: instant.nullable().describe('When a gateway last took it, to the minute.'),
    rejectedAt: instant.nullable().describe('Since when the gateway refuses it; deliveries wait meanwhile.'),
    check: z
      .object({ verdict: z.enum(checkVerdicts), says: z.string(), at: instant, roundTripMs: z.int() })
      .nullable()
      .describe('What the last check found; there is one every hour.'),
  })
  .meta({ id: 'Credential', description: 'What is known of a credential; never the secret.' })

export const madeCertificateRequest = z
  .object({ credential, request: z.string().describe('PKCS#10, PEM: upload it at the platform.') })
  .meta({ id: 'MadeCertificateRequest' })

export type Credential = z.infer<typeof credential>
