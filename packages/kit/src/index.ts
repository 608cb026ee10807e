import type { Device } from '@zbell/contract'
import { Client, UnreachableError } from '@zbell/contract/client'
import {
  type Allowed,
  type AppState,
  type FrontAnswer,
  fromBase64url,
  type KeptPlan,
  type Permission,
  type Plan,
} from '@zbell/core/states'
import { indexedDbStorage } from './browser/indexed-db-storage.ts'
import { callsOfWorker, type WorkerCall } from './browser/page-line.ts'
import type { Remembered } from './states/history.ts'
import { Kept } from './states/kept.ts'
import { Outbox } from './states/outbox.ts'
import { ReceiptBook } from './states/receipt-book.ts'
import { type Arriving, type Opened, Reception } from './states/reception.ts'
import { Registration, type ServicePlace } from './states/registration.ts'
import { placeName } from './worker.ts'

export type { Allowed, FrontAnswer, KeptPlan, Permission, Plan } from '@zbell/core/states'
export type { Remembered } from './states/history.ts'
export type { Arriving, Opened } from './states/reception.ts'

export type BellOptions = {
  /** The service's address, such as `https://bell.example.org`. */
  readonly service: string
  readonly appKey: string
  /** The service worker's file; it calls `installBellWorker(self)`. */
  readonly worker: string
  readonly appVersion?: string
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

type Stop = () => void

export type Bell<Data = unknown> = {
  permission(): PermissionState
  /** Asks the user, if they can still be asked, and registers when they say yes. Call it from a click, never on load. */
  ask(): Promise<PermissionState>
  /** Hears of an answer, also of one that is changed in the browser's settings. */
  onPermission(listener: (permission: PermissionState) => void): Stop
  /** Registers this browser, or tells the service what is true now; tries again by itself when there is no network. */
  register(): Promise<Device | undefined>
  unregister(): Promise<void>

  /** @param more.proof what the app's backend signed, where the app wants one; `merge` takes the anonymous past along */
  signIn(user: string, more?: { readonly proof?: string; readonly merge?: boolean }): Promise<void>
  /** The next person on this device gets nothing of the one before: no rings, no list, no plans. */
  signOut(): Promise<void>
  mute(muted: boolean): Promise<void>

  readonly topics: {
    join(topic: string): Promise<void>
    leave(topic: string): Promise<void>
    list(): Promise<readonly string[]>
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

type Facts = { readonly user: string | null; readonly muted: boolean }

const retryFirstMs = 2_000
const retryMostMs = 300_000
/** A timer cannot be set for longer; then it is set again. */
const longestTimerMs = 86_400_000

/** The kit for browsers. */
export function createBell<Data = unknown>(options: BellOptions): Bell<Data> {
  const storage = indexedDbStorage()
  const place: ServicePlace = { url: options.service, appKey: options.appKey }
  const registration = new Registration(storage, place)
  const client = () => registration.client()
  const receipts = new ReceiptBook(storage, client)
  const outbox = new Outbox(storage, client)
  const reception = new Reception(storage, receipts)
  const facts = new Kept<Facts>(storage, 'facts', { user: null, muted: false })
  const zone = () => Intl.DateTimeFormat().resolvedOptions().timeZone
  const listeners = {
    arrive: new Set<(one: never) => void>(),
    open: new Set<(one: never) => void>(),
    history: new Set<() => void>(),
    permission: new Set<(one: PermissionState) => void>(),
  }
  const tell = <T>(set: Set<(one: never) => void>, value: T) => {
    for (const listener of set) (listener as (one: T) => void)(value)
  }
  const listen = <T>(set: Set<T>, listener: T): Stop => {
    set.add(listener)
    return () => set.delete(listener)
  }

  const permissionNow = (): Permission => (Notification.permission === 'default' ? 'prompt' : Notification.permission)
  const permission = (): PermissionState => ({ state: permissionNow(), allows: null, ...advices[permissionNow()] })

  // What could not be handed over goes with the next visit, or when the network is back.
  let retryMs = retryFirstMs
  let retry: ReturnType<typeof setTimeout> | undefined
  const settle = async () => {
    const done = (await receipts.flush()) && (await outbox.flush())
    retryMs = done ? retryFirstMs : Math.min(retryMs * 2, retryMostMs)
    clearTimeout(retry)
    if (!done) retry = setTimeout(() => void settle().catch(report), retryMs)
  }
  const report = (error: unknown) => globalThis.reportError?.(error)
  globalThis.addEventListener?.('online', () => void register().catch(report))

  type Change = Partial<Facts> & { readonly proof?: string; readonly merge?: boolean }
  let again: ReturnType<typeof setTimeout> | undefined
  let againMs = retryFirstMs
  /** What changed is kept first of all, so that a service that is not there now hears of it later, by itself. */
  async function register(change: Change = {}): Promise<Device | undefined> {
    clearTimeout(again)
    try {
      const device = await registerNow(change)
      againMs = retryFirstMs
      return device
    } catch (error) {
      if (!(error instanceof UnreachableError)) throw error
      const { proof, merge } = change
      const claims = { ...(proof === undefined ? {} : { proof }), ...(merge === undefined ? {} : { merge }) }
      again = setTimeout(() => void register(claims).catch(report), againMs)
      againMs = Math.min(againMs * 2, retryMostMs)
      return undefined
    }
  }

  async function registerNow(change: Change): Promise<Device | undefined> {
    const { proof, merge, ...changed } = change
    const kept = await facts.change((before) => ({ ...before, ...changed }))
    await storage.set(placeName, place)
    const worker = await navigator.serviceWorker.register(options.worker)
    await navigator.serviceWorker.ready
    const claims = { ...(proof === undefined ? {} : { proof }) }
    if (permissionNow() !== 'granted') {
      await registration.change({ permission: permissionNow(), ...kept, ...claims, ...(merge ? { merge } : {}) })
      return undefined
    }
    const app = await new Client({ url: options.service, bearer: options.appKey }).call('readInstalledApp', {})
    const device = await registration.keep(
      {
        platform: 'web',
        subscription: asSubscription(
          await (options.subscribe ?? browserSubscription)(worker, needKey(app.applicationServerKey)),
        ),
        permission: 'granted',
        locale: navigator.language,
        timeZone: zone(),
        ...(options.appVersion === undefined ? {} : { appVersion: options.appVersion }),
        ...kept,
        ...claims,
      },
      merge ? { merge } : {},
    )
    void settle().catch(report)
    return device
  }

  const say: Outbox['add'] = async (saying) => {
    await outbox.add(saying)
    await settle()
  }

  let decide: ((arriving: never) => FrontAnswer | Promise<FrontAnswer>) | undefined
  const hear = async (call: WorkerCall) => {
    if (call.is === 'arrived') tell(listeners.arrive, call.arrived)
    else if (call.is === 'asked') call.answer((await decide?.(call.arriving as never)) ?? 'show')
    else if (call.is === 'opened') await handOut()
    for (const listener of listeners.history) listener()
    void settle().catch(report)
  }
  callsOfWorker((call) => void hear(call).catch(report))

  /** Openings go to whoever listens; while nobody does, they keep. */
  const handOut = async () => {
    if (listeners.open.size === 0) return
    for (const opened of await reception.takeOpened()) tell(listeners.open, opened)
  }

  let planTimer: ReturnType<typeof setTimeout> | undefined
  const ringPlans = async () => {
    for (const { content, name } of await reception.plans.due(Date.now(), zone(), undefined)) {
      const worker = await navigator.serviceWorker.ready
      const where = { permission: permissionNow(), appState: appStateOf(document), doNotDisturb: false, zone: zone() }
      const arriving = { ...content, mode: 'show' as const }
      const became = await reception.arrive(
        arriving,
        where,
        new Date(),
        async () => (await decide?.(arriving as never)) ?? 'show',
      )
      if (became === 'shown') {
        const data = { navigate: content.navigate, data: content.data }
        await worker.showNotification(content.title, {
          ...(content.body ? { body: content.body } : {}),
          tag: content.tag ?? name,
          data,
        })
      }
      tell(listeners.arrive, arriving)
    }
    clearTimeout(planTimer)
    const next = await reception.plans.next()
    if (next !== undefined)
      planTimer = setTimeout(
        () => void ringPlans().catch(report),
        Math.min(Math.max(next - Date.now(), 0), longestTimerMs),
      )
  }
  void ringPlans().catch(report)

  navigator.permissions?.query({ name: 'notifications' }).then((status) => {
    status.addEventListener('change', () => {
      void register().catch(report)
      tell(listeners.permission as never, permission())
    })
  }, report)

  return {
    permission,
    register: () => register(),
    async ask() {
      if (permissionNow() === 'prompt') await Notification.requestPermission()
      await register()
      tell(listeners.permission as never, permission())
      return permission()
    },
    onPermission: (listener) => listen(listeners.permission, listener),
    unregister: () => registration.leave(),
    async signIn(user, more = {}) {
      await register({ user, ...more })
    },
    async signOut() {
      await Promise.all([reception.history.clear(), reception.plans.cancel(), reception.takeOpened()])
      for (const one of await (await navigator.serviceWorker.ready).getNotifications()) one.close()
      await register({ user: null })
    },
    async mute(muted) {
      await register({ muted })
    },
    topics: {
      join: (topic) => say({ say: 'join', topic }),
      leave: (topic) => say({ say: 'leave', topic }),
      list: async () => (await (await client())?.call('listOwnTopics', {}))?.topics ?? [],
    },
    set: (values) => say({ say: 'attributes', values }),
    report: (type, data) =>
      say({
        say: 'occurrence',
        event: {
          specversion: '1.0',
          id: crypto.randomUUID(),
          source: location.origin,
          type,
          time: new Date().toISOString(),
          ...(data === undefined ? {} : { data }),
        },
      }),
    onArrive: (listener) => listen(listeners.arrive, listener as never),
    beforeShow(given) {
      decide = given as never
      return () => {
        decide = undefined
      }
    },
    onOpen(listener) {
      const stop = listen(listeners.open, listener as never)
      void handOut().catch(report)
      return stop
    },
    history: {
      list: () => reception.history.list(),
      unread: () => reception.history.unread(),
      async markRead(ids) {
        await reception.history.read(Date.now(), ids)
        for (const listener of listeners.history) listener()
      },
      onChange: (listener) => listen(listeners.history, listener),
    },
    plans: {
      async set(plan) {
        const kept = await reception.plans.set(plan, Date.now(), zone())
        void ringPlans().catch(report)
        return kept
      },
      list: () => reception.plans.list(),
      cancel: (...names) => reception.plans.cancel(names),
      cancelAll: () => reception.plans.cancel(),
    },
    async withdraw({ id, tag }) {
      const shown = await (await navigator.serviceWorker.ready).getNotifications(tag === undefined ? {} : { tag })
      const own = shown.filter((one) => id === undefined || (one.data as { id?: string } | null)?.id === id)
      for (const one of own) one.close()
      return own.length
    },
  }
}

const advices: Record<Permission, { readonly canAsk: boolean; readonly advice: string }> = {
  prompt: { canAsk: true, advice: 'Say what the notifications are for, and ask when they click.' },
  granted: { canAsk: false, advice: 'Nothing to do.' },
  denied: {
    canAsk: false,
    advice: 'They said no, and cannot be asked again: the browser’s settings for this page can change it.',
  },
}

const appStateOf = (page: Document): AppState => (page.visibilityState === 'visible' ? 'front' : 'behind')

function needKey(applicationServerKey: string | null): string {
  if (applicationServerKey === null) throw new Error('The app has no web push key yet; store one for this environment.')
  return applicationServerKey
}

async function browserSubscription(
  worker: ServiceWorkerRegistration,
  applicationServerKey: string,
): Promise<PushSubscriptionJSON> {
  const key = fromBase64url(applicationServerKey)
  if (!key) throw new Error('The app’s web push key is not base64url.')
  const subscription = await worker.pushManager.subscribe({ userVisibleOnly: true, applicationServerKey: key })
  return subscription.toJSON()
}

function asSubscription({ endpoint, keys }: PushSubscriptionJSON) {
  if (!endpoint || !keys?.p256dh || !keys.auth)
    throw new Error('The browser gave a push subscription without its keys.')
  return { endpoint, keys: { p256dh: keys.p256dh, auth: keys.auth } }
}
