import type { AppSettings } from '@zbell/contract'

type Below = AppSettings['caps'][number]['belowUrgency']

export const urgencyChoices = [
  { value: 'any', label: 'of any' },
  { value: 'high', label: 'below high' },
  { value: 'normal', label: 'below normal' },
  { value: 'low', label: 'below low' },
] as const

export type UrgencyChoice = (typeof urgencyChoices)[number]['value']

export const urgencyOf = (choice: UrgencyChoice): Below => (choice === 'any' ? null : choice)

/** For which notifications quiet hours or a cap hold, in words. */
export const forWhich = (channels: readonly string[] | undefined, below: Below): string =>
  `${channels === undefined ? 'For all channels' : `For ${channels.join(', ')}`}${below === null || below === undefined ? '' : `, less urgent than ${below}`}`
