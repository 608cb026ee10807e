import type { Webhook, WebhookEntry } from '@zbell/contract'
import { tellingWords, webhookState } from '@zbell/contract/words'

const shapes = {
  working: { mark: '●', tone: 'text-sea' },
  failing: { mark: '✕', tone: 'text-red' },
  declined: { mark: '✕', tone: 'text-red' },
  off: { mark: '–', tone: 'text-soft' },
} as const

/** Whether its receiver acknowledges what is delivered, in a word. */
export function WebhookState({ of }: { readonly of: Webhook }) {
  const state = webhookState(of)
  const { mark, tone } = shapes[state]
  return (
    <span className={`whitespace-nowrap ${tone}`}>
      {mark} {state}
    </span>
  )
}

const tones: Readonly<Record<WebhookEntry['outcome'], string>> = {
  told: 'text-sea',
  tried: 'text-soft',
  again: 'text-amber',
  'given-up': 'text-red',
  unwanted: 'text-red',
  dropped: 'text-red',
}
const marks: Readonly<Record<WebhookEntry['outcome'], string>> = {
  told: '●',
  tried: '○',
  again: '▲',
  'given-up': '✕',
  unwanted: '✕',
  dropped: '✕',
}

/** How a request ended, in a word. */
export function EntryOutcome({ of: { outcome, again } }: { readonly of: WebhookEntry }) {
  return (
    <span className={tones[outcome]}>
      {marks[outcome]} {tellingWords[outcome]}
      {again && ', replayed'}
    </span>
  )
}
