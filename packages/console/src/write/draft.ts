import type { NotificationRequest } from '@zbell/contract'

/** What is being written, as it stands in the fields. */
export type Draft = {
  readonly to: string
  readonly title: string
  readonly body: string
  readonly navigate: string
  readonly tag: string
  readonly urgency: 'very-low' | 'low' | 'normal' | 'high'
  readonly ttlSeconds: number
}

export const emptyDraft: Draft = {
  to: '',
  title: '',
  body: '',
  navigate: '',
  tag: '',
  urgency: 'normal',
  ttlSeconds: 86_400,
}

export const references = (to: string): string[] => to.split(/[\s,;]+/).filter(Boolean)

export const requestOf = (draft: Draft): NotificationRequest => ({
  to: { any: references(draft.to) },
  content: {
    title: draft.title,
    ...(draft.body ? { body: draft.body } : {}),
    ...(draft.navigate ? { navigate: draft.navigate } : {}),
    ...(draft.tag ? { tag: draft.tag } : {}),
  },
  urgency: draft.urgency,
  ttlSeconds: draft.ttlSeconds,
})

/** Which field a place of the request belongs to. */
export function fieldOf(pointer: string): keyof Draft | undefined {
  if (pointer.startsWith('/to')) return 'to'
  const name = pointer.split('/').at(-1)
  return name !== undefined && name in emptyDraft ? (name as keyof Draft) : undefined
}
