import type { Json, Mode } from '@zbell/core'

/** What reaches a device, whichever gateway it came through. */
export type Arriving = {
  readonly notification: string
  readonly mode: Mode
  readonly title: string
  readonly body?: string
  readonly navigate?: string
  readonly tag?: string
  readonly data?: { readonly [key: string]: Json }
}

/** Hands a message on to whoever has the token. */
export type HandOver = (token: string, arriving: Arriving) => void
