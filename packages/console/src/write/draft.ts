import type { Notification, NotificationRequest, WritingInput } from '@zbell/contract'
import { valueOfText } from '@zbell/contract/words'

export type Texts = { readonly title: string; readonly subtitle: string; readonly body: string }
export type Button = { readonly title: string; readonly action: string; readonly navigate: string }
export type PlatformName = 'ios' | 'android' | 'web'
export const platformNames: readonly PlatformName[] = ['ios', 'android', 'web']

/** What is being written, as it stands in the fields. */
export type Draft = {
  readonly any: string
  readonly all: string
  readonly none: string
  readonly platforms: readonly PlatformName[]
  /** By language; the empty one is what everybody gets. */
  readonly texts: { readonly [language: string]: Texts }
  readonly navigate: string
  readonly tag: string
  readonly group: string
  readonly sound: string
  readonly image: string
  readonly actions: readonly Button[]
  /** A line each: `name = value`. */
  readonly values: string
  readonly fallbacks: string
  readonly urgency: 'very-low' | 'low' | 'normal' | 'high'
  readonly ttlSeconds: number
  readonly spreadSeconds: number
  /** What a copied notification has beyond these fields; it goes along as it was. */
  readonly beyond: WritingInput
}

export const noTexts: Texts = { title: '', subtitle: '', body: '' }

export const emptyDraft: Draft = {
  any: '',
  all: '',
  none: '',
  platforms: [],
  texts: { '': noTexts },
  navigate: '',
  tag: '',
  group: '',
  sound: '',
  image: '',
  actions: [],
  values: '',
  fallbacks: '',
  urgency: 'normal',
  ttlSeconds: 86_400,
  spreadSeconds: 0,
  beyond: {},
}

export const references = (to: string): string[] => to.split(/[\s,;]+/).filter(Boolean)

const filled = (all: Record<string, unknown>): Record<string, unknown> =>
  Object.fromEntries(
    Object.entries(all).filter(
      ([, value]) => value !== '' && value !== undefined && (value as { length?: number }).length !== 0,
    ),
  )

type GivenValues = { readonly [name: string]: string | number | boolean }

/** Lines of `name = value`: a number is a number, `true` and `false` are what they say, all else and what is quoted is text. */
export function pairsOf(lines: string): GivenValues {
  return Object.fromEntries(
    lines.split('\n').flatMap((line) => {
      const at = line.indexOf('=')
      if (at < 1) return []
      const said = line.slice(at + 1).trim()
      const [, quoted] = /^"(.*)"$/s.exec(said) ?? []
      return [[line.slice(0, at).trim(), quoted ?? valueOfText(said)]]
    }),
  )
}

const wantsQuotes = (value: GivenValues[string]): boolean =>
  typeof value === 'string' && (valueOfText(value) !== value || /^".*"$/s.test(value))

const linesOf = (pairs: GivenValues): string =>
  Object.entries(pairs)
    .map(([name, value]) => `${name} = ${wantsQuotes(value) ? `"${value}"` : value}`)
    .join('\n')

export function requestOf(draft: Draft): NotificationRequest {
  const { '': shared = noTexts, ...languages } = draft.texts
  const { navigate, tag, group, sound, image, values, fallbacks } = draft
  const actions = draft.actions.map((one, i) => filled({ ...one, action: one.action || `action-${i + 1}` }))
  const perLanguage = Object.fromEntries(
    Object.entries(languages).flatMap(([language, texts]) => {
      const own = { ...draft.beyond.perLanguage?.[language], ...filled(texts) }
      return Object.keys(own).length > 0 ? [[language, own]] : []
    }),
  )
  const content = {
    ...draft.beyond,
    perLanguage: undefined,
    ...filled({ ...shared, navigate, tag, group, sound, image, actions }),
    ...(Object.keys(perLanguage).length > 0 ? { perLanguage } : {}),
  }
  return {
    to: filled({
      any: references(draft.any),
      all: references(draft.all),
      none: references(draft.none),
      platforms: draft.platforms,
    }),
    content,
    ...(values.trim() ? { values: pairsOf(values) } : {}),
    ...(fallbacks.trim() ? { fallbacks: pairsOf(fallbacks) } : {}),
    urgency: draft.urgency,
    ttlSeconds: draft.ttlSeconds,
    spreadSeconds: draft.spreadSeconds,
  } as NotificationRequest
}

type Like = Pick<Notification, 'to' | 'content' | 'values' | 'fallbacks' | 'urgency' | 'ttlSeconds' | 'spreadSeconds'>

/** A draft like a notification that was sent, for the same people. */
export function draftLike({ to, content, values, fallbacks, urgency, ttlSeconds, spreadSeconds }: Like): Draft {
  const { title, subtitle, body, navigate, tag, group, sound, image, actions, perLanguage, ...beyond } = content
  const texts = (given: {
    title?: string | undefined
    subtitle?: string | undefined
    body?: string | undefined
  }): Texts => ({
    title: given.title ?? '',
    subtitle: given.subtitle ?? '',
    body: given.body ?? '',
  })
  return {
    ...emptyDraft,
    any: to.any?.join(' ') ?? '',
    all: to.all?.join(' ') ?? '',
    none: to.none?.join(' ') ?? '',
    platforms: to.platforms ?? [],
    texts: {
      '': texts({ title, subtitle, body }),
      ...Object.fromEntries(Object.entries(perLanguage ?? {}).map(([language, own]) => [language, texts(own)])),
    },
    navigate: navigate ?? '',
    tag: tag ?? '',
    group: group ?? '',
    sound: sound ?? '',
    image: image ?? '',
    actions: (actions ?? []).map((one) => ({ title: one.title, action: one.action, navigate: one.navigate ?? '' })),
    values: linesOf(values),
    fallbacks: linesOf(fallbacks),
    urgency,
    ttlSeconds,
    spreadSeconds,
    beyond: { ...beyond, ...(perLanguage ? { perLanguage } : {}) } as WritingInput,
  }
}

/** Which field a place of the request belongs to, for its fault. */
export function fieldOf(pointer: string): string | undefined {
  const language = /^\/content\/perLanguage\/([^/]+)\/(title|subtitle|body)/.exec(pointer)
  if (language) return `${language[2]} ${language[1]}`
  const part = /^\/to\/(any|all|none)/.exec(pointer)
  if (part) return part[1]
  if (pointer.startsWith('/to')) return 'any'
  const content = /^\/content\/(title|subtitle|body|navigate|tag|group|sound|image|actions)/.exec(pointer)
  if (content) return content[1]
  const own = /^\/(values|fallbacks|urgency|ttlSeconds|spreadSeconds)/.exec(pointer)
  return own?.[1]
}

const keptName = (app: string, environment: string) => `bell-draft ${app} ${environment}`

/** Kept in this browser as it is written; what cannot be read is forgotten. */
export function readDraft(app: string, environment: string): Draft | undefined {
  try {
    const kept = localStorage.getItem(keptName(app, environment))
    return kept === null ? undefined : { ...emptyDraft, ...(JSON.parse(kept) as Draft) }
  } catch {
    return undefined // Of another version, or storage is not allowed; an empty page is no loss.
  }
}

export function keepDraft(app: string, environment: string, draft: Draft): void {
  try {
    if (JSON.stringify(draft) === JSON.stringify(emptyDraft)) localStorage.removeItem(keptName(app, environment))
    else localStorage.setItem(keptName(app, environment), JSON.stringify(draft))
  } catch {
    // A browser that keeps nothing still sends.
  }
}
