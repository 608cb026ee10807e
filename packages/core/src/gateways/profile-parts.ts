import '../schema-words.ts'
import { z } from 'zod'
import { factName } from './facts.ts'

/** An expression longer than this is no expression but a program. */
export const maxExpressionCharacters = 20_000

export const pointer = z.string().max(300).regex(/^\//, 'wants a JSON Pointer, which begins with /')

const headerName = z
  .string()
  .max(100)
  .regex(/^[!#$%&'*+.^_`|~0-9A-Za-z-]+$/, 'wants the name of a header (RFC 9110 §5.1)')

const status = z.union([z.int().min(100).max(599), z.enum(['2xx', '3xx', '4xx', '5xx'])])

const place = z.union([z.strictObject({ header: headerName }), z.strictObject({ body: pointer })])
export type AnswerPlace = z.infer<typeof place>

export const answerRow = z
  .strictObject({
    status: z
      .union([status, z.array(status).min(1)])
      .optional()
      .describe('A status, a class such as 5xx, or a list of them. Left out, `when` decides alone.'),
    field: pointer.optional().describe('A JSON Pointer into the body; the row fits when it finds `equals`.'),
    equals: z.union([z.string(), z.number(), z.boolean()]).optional(),
    when: z
      .string()
      .max(4_000)
      .optional()
      .describe('A JSONata expression over `status`, `headers` and `body`; the row fits when it is true.'),
    outcome: z.enum([
      'accepted',
      'busy',
      'unavailable',
      'token-gone',
      'credential-rejected',
      'wrong-environment',
      'too-large',
      'bad-request',
    ]),
    reference: z
      .union([headerName, place])
      .optional()
      .describe('Where the gateway’s own id stands for what it accepted: a header, or a place in the body.'),
    retryAfter: place
      .optional()
      .describe('Where it says how long to wait, when not in Retry-After: seconds, such as 30 or 30s, or a date.'),
  })
  .refine((row) => (row.field === undefined) === (row.equals === undefined), 'field and equals belong together')
  .refine((row) => row.status !== undefined || row.when !== undefined, 'wants a status, or a condition in when')

export type AnswerRow = z.infer<typeof answerRow>

const tokenHeader = {
  header: headerName.default('authorization'),
  scheme: z
    .string()
    .max(40)
    .regex(/^[!-~]*$/, 'wants one word')
    .default('Bearer'),
}

export const authentication = z.discriminatedUnion('kind', [
  z.strictObject({
    kind: z
      .literal('signed-token')
      .describe('A JWT signed with the credential’s P-256 key (ES256), the same for all requests.'),
    ...tokenHeader,
    lifetimeSeconds: z
      .int()
      .min(60)
      .max(86_400)
      .describe('How long the gateway takes one token; it is renewed when half of that is over.'),
  }),
  z.strictObject({
    kind: z.literal('client-certificate').describe('The TLS connection itself says who asks (RFC 8446 §4.4.2).'),
  }),
  z.strictObject({
    kind: z.literal('grant').describe('An access token got by the JWT bearer grant (RFC 7523 §2.1).'),
    ...tokenHeader,
    tokenPath: z
      .string()
      .regex(/^\/[!-~]*$/, 'wants a path that begins with /')
      .optional()
      .describe('Where tokens are got, on the gateway’s origin; for credentials that name no address of their own.'),
    scope: z.string().min(1).max(500).optional().describe('What is asked leave for, when the credential does not say.'),
  }),
])

export const keyFile = z
  .strictObject({
    key: pointer.optional().describe('The private key, when there is more than one.'),
    issuer: pointer.optional(),
    keyId: pointer.optional(),
    tokenAddress: pointer.optional(),
    scope: pointer.optional(),
    facts: z.record(factName, pointer).optional().describe('Facts of the account, by the names that the request uses.'),
  })
  .describe('Where things stand in the JSON file that the platform lets one download: JSON Pointers.')
