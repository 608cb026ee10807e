import type { Device, OwnChannel, OwnQuietHours } from '@zbell/contract'
import type { Allowed, FrontAnswer, KeptPlan, Permission, Plan } from '@zbell/core/states'
import type { Stop } from './browser/listeners.ts'
import type { Remembered } from './states/history.ts'
import type { Arriving, Opened } from './states/reception.ts'

export type BellOptions = {
  /** The service's address, such as `https://bell.example.org`. */
  readonly service: string
  readonly appKey: string
  /** The service worker's file; it calls `installBellWorker(self)`. */
  readonly worker: string
  readonly appVersion?: string
  /**
   * Asks the app's backend for a proof that somebody is this user. Called only when one is needed; one that has not come within ten
   * seconds, or that is refused, is asked for again later.
   */
  readonly proof?: (user: string) => Promise<string>
  /** Makes the push subscription; the browser's own when left out. */
  readonly subscribe?: (
    registration: ServiceWorkerRegistration,
    applicationServerKey: string,
  ) => Promise<PushSubscriptionJSON>
}

/** Where permission stands, and what a person can still do about it. */
export type PermissionState = {
  readonly state: Permission
  /** What exactly was allowed; null where the platform does not tell, as browsers do not. */
  readonly allows: Allowed | null
  /** Whether asking would show anything: whoever said no is not asked again. */
  readonly canAsk: boolean
  /** What to tell the user. */
  readonly advice: string
}

/** One window: the days on which it begins, from when to when by the person’s clock, and what becomes of what comes then. */
export type QuietHours = OwnQuietHours['quietHours'][number]

export type Bell<Data = unknown> = {
  permission(): PermissionState
  /**
   * Asks the user, if they can still be asked, and registers when they say yes. Call it from a click, never on load. Rejects with
   * the reason where the browser has no push service, or one that gives no answer.
   */
  ask(): Promise<PermissionState>
  /** Called with an answer, also of one that is changed in the browser's settings. */
  onPermission(listener: (permission: PermissionState) => void): Stop
  /** Registers this browser, or tells the service what is true now; tries again by itself when there is no network. */
  register(): Promise<Device | undefined>
  unregister(): Promise<void>

  /**
   * Rejects with the reason where the user is refused and the options have no `proof` to ask again.
   * @param more.proof what the app's backend signed, where it is at hand; else `proof` of the options is asked
   * @param more.merge takes the anonymous past along
   */
  signIn(user: string, more?: { readonly proof?: string; readonly merge?: boolean }): Promise<void>
  /** The next person on this device gets nothing of the one before: no rings, no list, no plans. */
  signOut(): Promise<void>
  mute(muted: boolean): Promise<void>

  readonly topics: {
    join(topic: string): Promise<void>
    leave(topic: string): Promise<void>
    list(): Promise<readonly string[]>
  }
  /** The kinds of notification that the app declares. */
  readonly channels: {
    list(): Promise<readonly OwnChannel[]>
    /** Mutes a channel, or lets it ring again, on all devices of the person. */
    mute(channel: string, muted?: boolean): Promise<void>
  }
  /** Hours in which nothing rings for this person, beside the app’s own. */
  readonly quietHours: {
    get(): Promise<readonly QuietHours[]>
    /** An empty list takes them away. */
    set(quietHours: readonly QuietHours[]): Promise<void>
  }
  /** Facts about the user, those that the app lets devices set; null removes one. */
  set(attributes: Readonly<Record<string, unknown>>): Promise<void>
  /** Reports that something happened (CloudEvents 1.0: its type, and what belongs to it). */
  report(type: string, data?: unknown): Promise<void>

  /** Something arrived, in whatever state the app was. */
  onArrive(listener: (arrived: Arriving & { readonly data?: Data }) => void): Stop
  /** Asked before something is shown while the app is in front; whoever has not answered after 3 s has said `show`. */
  beforeShow(decide: (arriving: Arriving & { readonly data?: Data }) => FrontAnswer | Promise<FrontAnswer>): Stop
  /** Something was opened. Openings from before are kept until this is called, so that none is lost while the app starts. */
  onOpen(listener: (opened: Opened & { readonly data?: Data }) => void): Stop

  readonly history: {
    list(): Promise<readonly Remembered[]>
    unread(): Promise<number>
    /** @param ids which; all when left out */
    markRead(ids?: readonly string[]): Promise<void>
    onChange(listener: () => void): Stop
  }
  /** Notifications that ring here without a network. A browser rings them while a page of the app is open. */
  readonly plans: {
    set(plan: Plan): Promise<KeptPlan>
    list(): Promise<readonly KeptPlan[]>
    cancel(...names: string[]): Promise<number>
    cancelAll(): Promise<number>
  }
  /** Takes away what is shown, by its notification's id or its tag. @returns how many there were */
  withdraw(which: { readonly id?: string; readonly tag?: string }): Promise<number>
}
