import type { Webhook, WebhookEntry } from '../schemas/webhook.ts'

/** How requests to a webhook end, in a word. */
export const tellingWords = {
  told: 'acknowledged',
  again: 'will be retried',
  'given-up': 'given up after three days',
  unwanted: 'declined',
  dropped: 'dropped',
  tried: 'tried by hand',
} as const satisfies Record<WebhookEntry['outcome'], string>

/** How a webhook is doing, in a word; its receiver `declined` with 410. */
export const webhookState = ({ enabled, offBecause, fault }: Webhook): 'working' | 'failing' | 'off' | 'declined' =>
  offBecause !== null ? 'declined' : !enabled ? 'off' : fault === null ? 'working' : 'failing'

/** What was answered to a request, or that nothing was. */
export const answerWords = ({ status, outcome, says }: WebhookEntry): string =>
  status !== null ? String(status) : outcome === 'dropped' ? '' : (says ?? 'no answer')

/** How many events. */
export const eventsWords = (count: number): string =>
  `${count.toLocaleString('en')} ${count === 1 ? 'event' : 'events'}`

/** How many wait. */
export const waitingWords = ({ waiting, waitingIsAll }: Webhook): string =>
  `${waitingIsAll ? '' : 'at least '}${eventsWords(waiting)}`

/** That so many are sent again. */
export const replayWords = (count: number): string => `${eventsWords(count)} will be replayed`

const spans = { s: 1_000, m: 60_000, h: 3_600_000, d: 86_400_000 } as const

/**
 * An instant, or one that lies so long back: `30m`, `2h`, `1d`.
 * @returns undefined for what is neither
 */
export function instantOfTyped(text: string, nowMs: number): string | undefined {
  const [, count, unit] = /^(\d{1,6})([smhd])$/.exec(text.trim()) ?? []
  if (count !== undefined) return new Date(nowMs - Number(count) * spans[unit as keyof typeof spans]).toISOString()
  const at = /^\d{4}-\d\d-\d\dT/.test(text.trim()) ? Date.parse(text.trim()) : Number.NaN
  return Number.isNaN(at) ? undefined : new Date(at).toISOString()
}
