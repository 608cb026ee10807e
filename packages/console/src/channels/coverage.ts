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

type Window = Pick<AppSettings['quietHours'][number], 'days' | 'from' | 'to' | 'then'>

export const sayWindow = ({ days, from, to, then }: Window): string =>
  `${days === undefined ? 'Every day' : days.join(', ')}, ${from} to ${to}: ${then === 'wait' ? 'waits' : 'is left out'}`
