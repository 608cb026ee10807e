import { environments } from '@zbell/core'
import { z } from 'zod'
import { role } from './role.ts'
import { instant, plainText, uuid } from './text.ts'

export const slug = z.string().regex(/^[a-z][a-z0-9-]{1,39}$/, 'wants 2 to 40 small letters, digits and hyphens')

const identifier = {
  ios: z
    .string()
    .max(155)
    .regex(
      /^[A-Za-z0-9-]+(\.[A-Za-z0-9-]+)+$/,
      'is not a bundle identifier: letters, digits and hyphens, in parts with dots between, such as example.ferries',
    ),
  android: z
    .string()
    .max(255)
    .regex(
      /^[A-Za-z]\w*(\.[A-Za-z]\w*)+$/,
      'is not a package name: parts that begin with a letter, with dots between, such as example.ferries',
    ),
  web: z
    .url({ protocol: /^https?$/, error: 'is not an origin, such as https://example.org' })
    .refine(
      (url) => URL.canParse(url) && new URL(url).origin === url,
      'is not an origin, such as https://example.org: nothing follows it',
    ),
}

const identifiers = z.strictObject(identifier).partial()
const name = plainText(80).min(1, 'wants one character at least')

export const appRequest = z.strictObject({ slug, name, identifiers: identifiers.default({}) })

export const appChange = z.strictObject({
  name: name.optional(),
  identifiers: z
    .strictObject({
      ios: identifier.ios.nullable(),
      android: identifier.android.nullable(),
      web: identifier.web.nullable(),
    })
    .partial()
    .default({})
    .describe('What is left out stays as it is; null takes one away.'),
})

export const app = z.object({ slug: z.string(), name: z.string(), identifiers, createdAt: instant }).meta({ id: 'App' })

const keyKind = z.enum(['backend', 'app']).describe('`backend` stays on a server; `app` ships inside the app.')

export const keyRequest = z
  .strictObject({
    kind: keyKind,
    environment: z.enum(environments),
    name,
    role: role
      .optional()
      .describe(
        'What a backend key may: `viewer` (when left out) reads, `sender` sends as well, `owner` does everything.',
      ),
  })
  .refine((key) => key.kind === 'backend' || key.role === undefined, {
    path: ['role'],
    message: 'belongs to a backend key; an app key registers devices and nothing else',
  })

export const key = z
  .object({
    id: uuid,
    kind: keyKind,
    environment: z.enum(environments),
    name: z.string(),
    role: role.nullable().describe('Null for an app key.'),
    createdAt: instant,
    createdBy: z.string(),
    usedAt: instant.nullable().describe('When it was last used, to the minute.'),
    revokedAt: instant.nullable(),
    revokedBy: z.string().nullable(),
  })
  .meta({ id: 'Key', description: 'What is known of a key; never the key.' })

export const madeKey = key
  .extend({ key: z.string().describe('Answered this once; only its hash is kept.') })
  .meta({ id: 'MadeKey' })

export type App = z.infer<typeof app>
export type Key = z.infer<typeof key>
