import type { ShownNotification } from '@zbell/contract'
import type { AppState, FrontAnswer, Permission, Place, Platform } from '@zbell/core'
import type { Arriving } from '../gateways/arriving.ts'

/** How a browser is reached: its push subscription with the private half of its key. Base64url. */
export type BrowserKeys = {
  readonly subscription: string
  readonly p256dh: string
  readonly privateKey: string
  readonly auth: string
}

type Entry = { readonly at: string; readonly what: string }

/** Everything that a handset is, so that it can be put away and taken up again as it was. Plain JSON. */
export type HandsetState = {
  readonly id: string
  readonly app: string
  readonly model: string
  readonly platform: Platform
  readonly locale: string
  user: string | null
  timeZone: string
  /** The gateway's token; for a browser the endpoint. */
  token: string
  browser?: BrowserKeys
  permission: Permission
  appState: AppState
  locked: boolean
  lockScreen: ShownNotification[]
  opened: string | null
  /** What the kit keeps. */
  kit: Record<string, unknown>
  watch?: ShownNotification[] | null
  installed?: boolean
  muted?: boolean
  online?: boolean
  doNotDisturb?: boolean
  lowPower?: boolean
  inFront?: FrontAnswer
  clockOffsetMs?: number
  place?: Place | null
  toast?: string | null
  /** Where the buttons of what is shown lead, by notification and action. */
  places?: Record<string, string>
  topics?: string[]
  /** Which of the app’s channels its system blocks, by the names that they have there, and which its user muted in the app. */
  blockedChannels?: string[]
  mutedChannels?: string[]
  log?: Entry[]
  /** What came while there was no network; the gateway holds it. */
  held?: Arriving[]
}
