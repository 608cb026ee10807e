import { z } from 'zod'
import { environments, platforms } from '../devices/device.ts'

const status = z.union([z.int().min(100).max(599), z.enum(['2xx', '3xx', '4xx', '5xx'])])

const answerRow = z
  .strictObject({
    status: z.union([status, z.array(status).min(1)]).describe('A status, a class such as 5xx, or a list of them.'),
    field: z
      .string()
      .regex(/^\//, 'wants a JSON Pointer, which begins with /')
      .optional()
      .describe('A JSON Pointer into the body; the row fits when it finds `equals`.'),
    equals: z.union([z.string(), z.number(), z.boolean()]).optional(),
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
    reference: z.string().optional().describe('The header that carries the gateway’s own id for what it accepted.'),
  })
  .refine((row) => (row.field === undefined) === (row.equals === undefined), 'field and equals belong together')

const authentication = z.discriminatedUnion('kind', [
  z.strictObject({
    kind: z
      .literal('signed-token')
      .describe('A JWT signed with the credential’s P-256 key (ES256), the same for all requests.'),
    header: z.string().default('authorization'),
    scheme: z.string().default('Bearer'),
    lifetimeSeconds: z
      .int()
      .min(60)
      .max(86_400)
      .describe('How long the gateway takes one token; it is renewed well before.'),
  }),
  z.strictObject({
    kind: z.literal('client-certificate').describe('The TLS connection itself says who asks (RFC 8446 §4.4.2).'),
  }),
  z.strictObject({
    kind: z.literal('grant').describe('An access token got by the JWT bearer grant (RFC 7523 §2.1).'),
    header: z.string().default('authorization'),
    scheme: z.string().default('Bearer'),
    tokenPath: z
      .string()
      .regex(/^\//, 'wants a path that begins with /')
      .describe('Where tokens are got, on the gateway’s origin.'),
  }),
])

/** How to speak to one gateway: where, as whom, with which request, and what each answer means. */
export const gatewayProfile = z.strictObject({
  profile: z.string().regex(/^[a-z][a-z0-9-]{0,40}$/, 'wants small letters, digits and hyphens'),
  platform: z.enum(platforms),
  origins: z
    .partialRecord(z.enum(environments), z.url({ protocol: /^https$/ }))
    .describe('The gateway’s https origin for each environment.'),
  caFile: z
    .string()
    .min(1)
    .optional()
    .describe('A PEM file of certificates to trust for this gateway besides the others; beside the profile.'),
  outdatedFrom: z.iso.date().optional().describe('From this day on the platform no longer speaks so.'),
  authentication,
  request: z.strictObject({
    method: z.enum(['POST', 'PUT']).default('POST'),
    path: z.string().regex(/^\//, 'wants a path that begins with /').describe('May hold {token} and {identifier}.'),
    headers: z.string().default('{}').describe('A JSONata expression that makes an object of header values.'),
    body: z.string().describe('A JSONata expression that makes the JSON body.'),
  }),
  limits: z.strictObject({ bodyBytes: z.int().min(1).max(1_000_000) }),
  answers: z.array(answerRow).min(1).describe('The first row that fits explains the answer.'),
})

export type GatewayProfile = z.infer<typeof gatewayProfile>
export type AnswerRow = z.infer<typeof answerRow>

/** The same as JSON Schema 2020-12, so that an editor completes and checks a profile while it is written. */
export const gatewayProfileSchema = (): Record<string, unknown> => ({
  ...z.toJSONSchema(gatewayProfile, { io: 'input' }),
  title: 'Gateway profile',
})
