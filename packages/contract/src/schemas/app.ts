import { environments } from '@zbell/core'
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

export type App = z.infer<typeof app>
