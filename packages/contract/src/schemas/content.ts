import {
  contentLimits,
  dataFault,
  directions,
  isLanguageTag,
  modes,
  planFault,
  textFaults,
  urgencies,
  type Writing,
} from '@zbell/core'
import { isChannelName } from '@zbell/core/policy'
import { z } from 'zod'
import { anyJson, plainText, uuid } from './text.ts'

const utf8 = new TextEncoder()

const languageTag = z.string().refine(isLanguageTag, 'wants a language tag, such as nb or zh-Hant')

const navigate = plainText(contentLimits.navigateChars).refine(
  (text) =>
    /^\/(?!\/)/.test(text)
      ? true
      : URL.canParse(text) && /^[a-z][a-z0-9+.-]*:/.test(text) && !/^(javascript|data|vbscript):/i.test(text),
  'wants an absolute URL, or a path within the app that starts with one /',
)

/** Looked at before it is copied: a copy would lose a name such as `__proto__` without a word. */
const data = z
  .unknown()
  .superRefine((value, context) => {
    const fault = dataFault(value, contentLimits.dataDepth)
    if (fault) context.addIssue({ code: 'custom', message: fault.says, path: [...fault.path], continue: false })
    const bytes = utf8.encode(JSON.stringify(value)).length
    if (bytes > contentLimits.dataBytes) {
      context.addIssue({
        code: 'custom',
        message: `has ${bytes} bytes of JSON; ${contentLimits.dataBytes} fit`,
        continue: false,
      })
    }
  })
  .pipe(z.record(z.string(), anyJson))
  .meta({
    type: 'object',
    description: 'Anything that the app wants to know; at most 3,000 bytes of JSON, 8 levels deep.',
  })

const planned = z
  .strictObject({
    name: z.string().describe('Another plan of this name is replaced.'),
    when: z.record(z.string(), anyJson).describe('After so long, at a local time, by a recurrence, or at a place.'),
    content: z.record(z.string(), anyJson).describe('What it shows: title, body, navigate, tag, data.'),
  })
  .superRefine((plan, context) => {
    const fault = planFault(plan as never)
    if (fault !== undefined) context.addIssue({ code: 'custom', message: fault })
  })

/** What a `wake` has the kit do on the device. */
const commands = z
  .strictObject({
    withdraw: z
      .strictObject({ id: uuid.optional(), tag: z.string().max(contentLimits.tagChars).optional() })
      .refine(({ id, tag }) => (id === undefined) !== (tag === undefined), 'wants an id or a tag')
      .optional()
      .describe('Removes what is shown: one notification by its id, or all with a tag.'),
    plans: z
      .array(planned)
      .max(contentLimits.plans)
      .optional()
      .describe('Plans that ring on the device, without a network.'),
    cancel: z
      .array(z.string().max(contentLimits.nameChars))
      .max(contentLimits.plans)
      .optional()
      .describe('Names of plans.'),
  })
  .meta({ id: 'Commands', description: 'What the kit on the device is told to do; with the mode `wake` only.' })

export const actionName = z
  .string()
  .regex(/^[A-Za-z0-9_-]{1,32}$/, 'wants 1 to 32 letters, digits, hyphens or underscores')
  .describe('By this name the app learns which was pressed.')

const action = z.strictObject({
  action: actionName,
  title: plainText(contentLimits.actionTitleChars).min(1).describe('What the button says.'),
  icon: picture().optional(),
  navigate: navigate.optional().describe('Where this button leads, in place of the notification’s own.'),
})

/** A picture's address; it may have places for values. */
function picture() {
  return plainText(contentLimits.navigateChars).refine(
    (text) => URL.canParse(text) && /^https?:/.test(text),
    'wants the address of a picture, such as https://…/kittiwake.png',
  )
}

/** What an app calls a thing of its own, such as a sound. */
export const label = z
  .string()
  .regex(/^[A-Za-z0-9_.-]{1,64}$/, 'wants 1 to 64 letters, digits, dots, hyphens or underscores')

const parts = {
  title: plainText(contentLimits.titleChars).describe('The first line.'),
  subtitle: plainText(contentLimits.titleChars).optional().describe('A line of its own between title and body.'),
  body: plainText(contentLimits.bodyChars).optional().describe('The text below the title.'),
  lang: languageTag.optional().describe('The language of the texts (BCP 47).'),
  dir: z.enum(directions).optional().describe('The direction of the texts; taken from the language when left out.'),
  icon: picture().optional().describe('A small picture beside the text.'),
  image: picture().optional().describe('A large picture below it.'),
  badge: picture().optional().describe('A one-coloured picture for where there is no room for the icon.'),
  accent: z
    .string()
    .regex(/^#[0-9a-fA-F]{6}$/, 'wants a colour such as #b5893a')
    .optional()
    .describe('A colour for what the platform tints.'),
  sound: label.optional().describe('`default`, `none`, or a sound that the app carries, by its name.'),
  vibrate: z
    .array(z.int().min(0).max(contentLimits.vibrateMs))
    .max(contentLimits.vibrations)
    .optional()
    .describe('Milliseconds of vibration and pause, by turns.'),
  badgeCount: z
    .union([z.int().min(0).max(99_999), z.literal('unread')])
    .optional()
    .describe('The number on the app’s icon, or `unread`: as many as the user has not read.'),
  actions: z.array(action).max(contentLimits.actions).optional().describe('Buttons.'),
  navigate: navigate.optional().describe('Where a tap leads.'),
  data: data.optional(),
  commands: commands.optional(),
  tag: z
    .string()
    .regex(/^[A-Za-z0-9_-]{1,32}$/, 'wants 1 to 32 letters, digits, hyphens or underscores')
    .optional()
    .describe('A newer notification with the same tag takes the older one’s place.'),
  renotify: z.boolean().optional().describe('Whether taking another’s place rings again.'),
  group: label.optional().describe('What lies together in the tray.'),
  silent: z.boolean().optional().describe('Without sound and vibration.'),
  requireInteraction: z.boolean().optional().describe('It stays until the user does something.'),
  timestamp: z.int().min(0).optional().describe('The moment that it speaks of, in milliseconds since 1970.'),
}

const channel = z
  .string()
  .refine(isChannelName, 'is not a channel: small letters, digits, dots, hyphens and underscores, 64 at most')
  .optional()
  .describe('The kind of notification that it is: a channel that the app declares.')

/** What one device gets: its language chosen, its values filled in. */
export const content = z
  .strictObject({ ...parts, channel })
  .meta({ id: 'Content', description: 'What a device shows.' })

export const valueName = z
  .string()
  .regex(/^[A-Za-z][A-Za-z0-9_]{0,63}$/, 'wants a name of letters, digits and underscores')
export const value = z.union([plainText(contentLimits.bodyChars), z.number(), z.boolean()])

export const values = z
  .record(valueName, value)
  .refine((all) => Object.keys(all).length <= contentLimits.values, `wants at most ${contentLimits.values} values`)

const { title, subtitle, body, dir, icon, image, actions, navigate: place } = parts
const inLanguage = z
  .strictObject({
    title,
    subtitle,
    body,
    dir,
    icon,
    image,
    actions,
    navigate: place,
    fallbacks: values.describe('What stands in for a value in this language, before the fallbacks for all.'),
  })
  .partial()
const perLanguage = z
  .record(languageTag, inLanguage)
  .refine(
    (all) => Object.keys(all).length <= contentLimits.languages,
    `wants at most ${contentLimits.languages} languages`,
  )
  .optional()
  .describe(
    'What differs by language. A device’s language falls back along BCP 47 (RFC 4647 §3.4), then to the shared texts.',
  )
/** @param tag what a tag may be */
const writingWith = (tag: typeof parts.tag) => {
  const onPlatform = z.strictObject({ ...parts, tag, perLanguage }).partial()
  return z
    .strictObject({
      ...parts,
      tag,
      title: parts.title.optional(),
      channel,
      perLanguage,
      perPlatform: z
        .strictObject({ ios: onPlatform, android: onPlatform, web: onPlatform })
        .partial()
        .optional()
        .describe('What differs by platform.'),
    })
    .superRefine((given, context) => {
      for (const { pointer, says, place } of textFaults(given as Writing))
        context.addIssue({ code: 'custom', message: says, path: pointer.slice(1).split('/'), params: { place } })
    })
}

/** What a writer writes, once for all. */
export const writing = writingWith(parts.tag).meta({
  id: 'Writing',
  description:
    'What a notification says. Texts are Unicode MessageFormat: {pier}, {delay, number}, {delay, plural, …}.',
})

/** The same in a template, whose tag is filled in with the values of each sending. */
export const templateWriting = writingWith(
  z
    .string()
    .max(200)
    .regex(
      /^(?:[A-Za-z0-9_-]|\{[A-Za-z][A-Za-z0-9_]{0,63}\})+$/,
      'wants letters, digits, hyphens, underscores, and values such as {sailing}',
    )
    .optional()
    .describe('A newer notification with the same tag takes the older one’s place; filled in, 32 characters at most.'),
).meta({ id: 'TemplateWriting', description: 'What a notification made from the template says.' })

export const urgency = z.enum(urgencies).describe('RFC 8030 §5.3')
export const mode = z.enum(modes).describe('`wake` shows nothing: the app is woken to fetch something.')

export type WritingInput = z.input<typeof writing>
