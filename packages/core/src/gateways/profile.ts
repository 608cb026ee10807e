import '../schema-words.ts'
import { z } from 'zod'
import { environments, platforms } from '../devices/device.ts'
import { factName, factValue } from './facts.ts'
import { answerRow, authentication, keyFile, maxExpressionCharacters } from './profile-parts.ts'

export type { AnswerPlace, AnswerRow } from './profile-parts.ts'

const origin = z.url({ protocol: /^https$/ })
const expression = z.string().max(maxExpressionCharacters)

/** How to speak to one gateway: where, as whom, with which request, and what each answer means. */
export const gatewayProfile = z.strictObject({
  profile: z.string().regex(/^[a-z][a-z0-9-]{0,40}$/, 'wants small letters, digits and hyphens'),
  platform: z.enum(platforms),
  origins: z
    .partialRecord(z.enum(environments), z.union([origin, z.array(origin).min(1).max(4)]))
    .describe('The gateway’s https origin for each environment; of several the next is asked when one is away.'),
  http: z
    .union([z.literal(2), z.literal(1.1)])
    .default(2)
    .describe('The version of HTTP that it speaks.'),
  ca: z
    .string()
    .max(50_000)
    .regex(/-----BEGIN CERTIFICATE-----/, 'holds no certificate in PEM form')
    .optional()
    .describe('PEM certificates to trust for this gateway besides the others.'),
  caFile: z
    .string()
    .min(1)
    .optional()
    .describe('The same in a file beside the profile, for a profile that the configuration names.'),
  outdatedFrom: z.iso.date().optional().describe('From this day on the platform no longer speaks so.'),
  authentication,
  keyFile: keyFile.optional(),
  facts: z
    .record(factName, factValue)
    .optional()
    .describe('Facts of the account that hold for every credential; a key file that says otherwise is refused.'),
  request: z.strictObject({
    method: z.enum(['POST', 'PUT']).default('POST'),
    path: z
      .string()
      .max(1_000)
      .regex(/^\/[^\s\p{C}#\\]*$/u, 'wants a path that begins with / and holds no spaces, # or \\')
      .refine(staysInPlace, 'may hold no . or .. between slashes')
      .refine(hasKnownHoles, 'may hold {token}, {identifier} and {fact.NAME}, and no other braces')
      .describe('May hold {token}, {identifier} and {fact.NAME}.'),
    headers: expression.default('{}').describe('A JSONata expression that makes an object of header values.'),
    body: expression.describe('A JSONata expression that makes the JSON body.'),
  }),
  limits: z.strictObject({ bodyBytes: z.int().min(1).max(1_000_000) }),
  answers: z.array(answerRow).min(1).max(200).describe('The first row that fits explains the answer.'),
})

export type GatewayProfile = z.infer<typeof gatewayProfile>
export type Authentication = GatewayProfile['authentication']

/** RFC 3986 §5.2.4: a segment of dots means another path, also when its dots are percent-encoded. */
function staysInPlace(path: string): boolean {
  const [before = ''] = path.split('?')
  return !before.split('/').some((segment) => /^(?:\.|%2e){1,2}$/i.test(segment))
}

function hasKnownHoles(path: string): boolean {
  return !/[{}]/.test(path.replace(/\{(?:token|identifier|fact\.[A-Za-z_]\w{0,39})\}/g, ''))
}

/** A gateway's origins in an environment, the first one first; none when it has none there. */
export function originsOf({ origins }: GatewayProfile, environment: (typeof environments)[number]): readonly string[] {
  const given = origins[environment]
  return given === undefined ? [] : typeof given === 'string' ? [given] : given
}

/** The facts that a request cannot do without: those in its path and those that its expressions speak of. */
export function factsSpokenOf({ request }: GatewayProfile): string[] {
  const names = [request.path, request.headers, request.body].flatMap((text) =>
    [...text.matchAll(/\bfact\.([A-Za-z_]\w{0,39})/g)].map(([, name]) => name ?? ''),
  )
  return [...new Set(names)]
}

/** Which kind of credential a way of authentication asks for. */
export const credentialOf = {
  'signed-token': 'signing-key',
  grant: 'service-key',
  'client-certificate': 'client-certificate',
} as const satisfies Record<Authentication['kind'], string>

/** The same as JSON Schema 2020-12, so that an editor completes and checks a profile while it is written. */
export const gatewayProfileSchema = (): Record<string, unknown> => ({
  ...z.toJSONSchema(gatewayProfile, { io: 'input' }),
  title: 'Gateway profile',
})
