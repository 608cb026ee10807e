import type { Notification, NotificationRequest, Target, When, WritingInput } from '@zbell/contract'

export type Texts = { readonly title: string; readonly subtitle: string; readonly body: string }
export type Button = { readonly title: string; readonly action: string; readonly navigate: string }
export type Values = { readonly [name: string]: string | number | boolean }

/** What is being written, as it stands in the fields. */
export type Draft = {
  readonly to: Target
  /** By language; the empty one is what everybody gets. */
  readonly texts: { readonly [language: string]: Texts }
  readonly channel: string
  readonly navigate: string
  readonly tag: string
  readonly group: string
  readonly sound: string
  readonly image: string
  readonly actions: readonly Button[]
  readonly values: Values
  readonly fallbacks: Values
  /** Empty: the channel’s, else normal. */
  readonly urgency: '' | 'very-low' | 'low' | 'normal' | 'high'
  /** 0: the channel’s, else a day. */
  readonly ttlSeconds: number
  readonly spreadSeconds: number
  /** What a copied notification has beyond these fields; it goes along as it was. */
  readonly beyond: WritingInput
}

export const noTexts: Texts = { title: '', subtitle: '', body: '' }

export const emptyDraft: Draft = {
  to: {},
  texts: { '': noTexts },
  channel: '',
  navigate: '',
  tag: '',
  group: '',
  sound: '',
  image: '',
  actions: [],
  values: {},
  fallbacks: {},
  urgency: '',
  ttlSeconds: 0,
  spreadSeconds: 0,
  beyond: {},
}

const filled = (all: Record<string, unknown>): Record<string, unknown> =>
  Object.fromEntries(
    Object.entries(all).filter(
      ([, value]) => value !== '' && value !== undefined && (value as { length?: number }).length !== 0,
    ),
  )

/** A place that is not filled in is no value. */
const given = (values: Values): Values | undefined => (Object.keys(values).length > 0 ? values : undefined)

export function requestOf(draft: Draft): NotificationRequest {
  const { '': shared = noTexts, ...languages } = draft.texts
  const { channel, navigate, tag, group, sound, image, values, fallbacks } = draft
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
    ...filled({ ...shared, channel, navigate, tag, group, sound, image, actions }),
    ...(Object.keys(perLanguage).length > 0 ? { perLanguage } : {}),
  }
  return {
    to: filled(draft.to),
    content,
    ...filled({ values: given(values), fallbacks: given(fallbacks) }),
    ...(draft.urgency === '' ? {} : { urgency: draft.urgency }),
    ...(draft.ttlSeconds === 0 ? {} : { ttlSeconds: draft.ttlSeconds }),
    spreadSeconds: draft.spreadSeconds,
  } as NotificationRequest
}

/** The same handed to devices as a plan of this name, which they ring by themselves at its time. */
export function planRequestOf(draft: Draft, name: string, when: When): NotificationRequest {
  const { title, body } = draft.texts[''] ?? noTexts
  const { navigate, tag } = draft
  const plan = { name, when, content: filled({ title, body, navigate, tag }) }
  return {
    to: filled(draft.to),
    mode: 'wake',
    content: { commands: { plans: [plan] } },
  } as unknown as NotificationRequest
}

type Like = Pick<Notification, 'to' | 'content' | 'values' | 'fallbacks' | 'urgency' | 'ttlSeconds' | 'spreadSeconds'>

/** A draft like a notification that was sent, for the same people. */
export function draftLike({ to, content, values, fallbacks, urgency, ttlSeconds, spreadSeconds }: Like): Draft {
  const { title, subtitle, body, channel, navigate, tag, group, sound, image, actions, perLanguage, ...beyond } =
    content
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
    to,
    texts: {
      '': texts({ title, subtitle, body }),
      ...Object.fromEntries(Object.entries(perLanguage ?? {}).map(([language, own]) => [language, texts(own)])),
    },
    channel: channel ?? '',
    navigate: navigate ?? '',
    tag: tag ?? '',
    group: group ?? '',
    sound: sound ?? '',
    image: image ?? '',
    actions: (actions ?? []).map((one) => ({ title: one.title, action: one.action, navigate: one.navigate ?? '' })),
    values,
    fallbacks,
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
  const content = /^\/content\/(title|subtitle|body|channel|navigate|tag|group|sound|image|actions)/.exec(pointer)
  if (content) return content[1]
  const own = /^\/(values|fallbacks|urgency|ttlSeconds|spreadSeconds|name)/.exec(pointer)
  return own?.[1]
}

const keptName = (app: string, environment: string) => `bell-writing ${app} ${environment}`

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
