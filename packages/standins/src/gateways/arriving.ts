import type { Json, Mode, Urgency } from '@zbell/core'

/** What reaches a device, whichever gateway it came through. */
export type Arriving = {
  /** The notification's id; none for what did not come from the service. */
  readonly notification: string | undefined
  readonly mode: Mode
  readonly urgency?: Urgency
  readonly title: string
  readonly body?: string
  readonly navigate?: string
  readonly tag?: string
  readonly data?: { readonly [key: string]: Json }
}

/** Hands a message on to whoever has the token. */
export type HandOver = (token: string, arriving: Arriving) => void
