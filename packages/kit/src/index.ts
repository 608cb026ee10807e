import type { FrontAnswer } from '@zbell/core/states'
import type { Bell, BellOptions, PermissionState } from './bell.ts'
import { indexedDbStorage } from './browser/indexed-db-storage.ts'
import { Listeners, report } from './browser/listeners.ts'
import { callsOfWorker, type WorkerCall } from './browser/page-line.ts'
import { PageRegistration } from './browser/page-registration.ts'
import { onPermissionChange, permissionNow, permissionState, zoneNow } from './browser/permission.ts'
import { PlanClock } from './browser/plan-clock.ts'
import { Retry } from './browser/retry.ts'
import { Outbox, type Saying } from './states/outbox.ts'
import { ReceiptBook } from './states/receipt-book.ts'
import { type Arriving, type Opened, Reception } from './states/reception.ts'
import { Registration } from './states/registration.ts'

export type { Allowed, FrontAnswer, KeptPlan, Permission, Plan } from '@zbell/core/states'
export type { Bell, BellOptions, PermissionState, QuietHours } from './bell.ts'
export type { Remembered } from './states/history.ts'
export type { Arriving, Opened } from './states/reception.ts'

/** The kit for browsers. */
export const createBell = <Data = unknown>(options: BellOptions): Bell<Data> => new BrowserBell(options).asBell<Data>()

/** Puts the parts together: what is kept, what is told, and what the page hears. */
class BrowserBell {
  readonly #storage = indexedDbStorage()
  readonly #registration: Registration
  readonly #page: PageRegistration
  readonly #receipts: ReceiptBook
  readonly #outbox: Outbox
  readonly #reception: Reception
  readonly #plans: PlanClock
  readonly #handingOver = new Retry()
  readonly #arrived = new Listeners<Arriving>()
  readonly #opened = new Listeners<Opened>()
  readonly #history = new Listeners()
  readonly #permission = new Listeners<PermissionState>()
  #decide: ((arriving: Arriving) => FrontAnswer | Promise<FrontAnswer>) | undefined

  constructor(options: BellOptions) {
    this.#registration = new Registration(this.#storage, { url: options.service, appKey: options.appKey })
    this.#page = new PageRegistration(options, this.#storage, this.#registration)
    this.#receipts = new ReceiptBook(this.#storage, () => this.#registration.client())
    this.#outbox = new Outbox(this.#storage, () => this.#registration.client())
    this.#reception = new Reception(this.#storage, this.#receipts)
    this.#plans = new PlanClock(this.#reception, {
      beforeShow: (arriving) => this.#beforeShow(arriving),
      onArrive: (arriving) => this.#arrived.tell(arriving),
    })
    callsOfWorker((call) => void this.#hear(call).catch(report))
    globalThis.addEventListener?.('online', () => void this.#register().catch(report))
    onPermissionChange(() => {
      void this.#register().catch(report)
      this.#permission.tell(permissionState())
    }).catch(report)
    void this.#plans.ring().catch(report)
  }

  async #register(change?: Parameters<PageRegistration['register']>[0]) {
    const device = await this.#page.register(change)
    if (device) void this.#handOver().catch(report)
    return device
  }

  /** What could not be handed over goes with the next visit, or when the network is back. */
  async #handOver(): Promise<void> {
    const done = (await this.#receipts.flush()) && (await this.#outbox.flush())
    if (done) this.#handingOver.done()
    else this.#handingOver.later(() => this.#handOver())
  }

  async #say(saying: Saying): Promise<void> {
    await this.#outbox.add(saying)
    await this.#handOver()
  }

  async #beforeShow(arriving: Arriving): Promise<FrontAnswer> {
    return (await this.#decide?.(arriving)) ?? 'show'
  }

  async #hear(call: WorkerCall): Promise<void> {
    if (call.is === 'arrived') this.#arrived.tell(call.arrived)
    else if (call.is === 'asked') call.answer(await this.#beforeShow(call.arriving))
    else if (call.is === 'opened') await this.#handOut()
    this.#history.tell()
    void this.#handOver().catch(report)
  }

  /** Openings go to whoever listens; while nobody does, they keep. */
  async #handOut(): Promise<void> {
    if (this.#opened.isEmpty) return
    for (const opened of await this.#reception.takeOpened()) this.#opened.tell(opened)
  }

  async #ask(): Promise<PermissionState> {
    if (permissionNow() === 'prompt') await Notification.requestPermission()
    await this.#register()
    this.#permission.tell(permissionState())
    return permissionState()
  }

  async #signOut(): Promise<void> {
    const { history, plans } = this.#reception
    await Promise.all([history.clear(), plans.cancel(), this.#reception.takeOpened()])
    for (const one of await shownNotifications()) one.close()
    await this.#register({ user: null })
  }

  asBell<Data>(): Bell<Data> {
    const { history, plans } = this.#reception
    return {
      permission: permissionState,
      ask: () => this.#ask(),
      onPermission: (listener) => this.#permission.add(listener),
      register: () => this.#register(),
      unregister: () => this.#registration.leave(),
      signIn: async (user, more = {}) => void (await this.#register({ user, ...more })),
      signOut: () => this.#signOut(),
      mute: async (muted) => void (await this.#register({ muted })),
      topics: {
        join: (topic) => this.#say({ say: 'join', topic }),
        leave: (topic) => this.#say({ say: 'leave', topic }),
        list: async () => (await (await this.#registration.client())?.call('listOwnTopics', {}))?.topics ?? [],
      },
      channels: {
        list: async () => (await (await this.#registration.client())?.call('listOwnChannels', {}))?.channels ?? [],
        mute: (channel, muted = true) => this.#say({ say: 'channel', channel, muted }),
      },
      quietHours: {
        get: async () => (await (await this.#registration.client())?.call('readOwnQuietHours', {}))?.quietHours ?? [],
        set: (quietHours) => this.#say({ say: 'quiet-hours', quietHours }),
      },
      set: (values) => this.#say({ say: 'attributes', values }),
      report: (type, data) => this.#say({ say: 'occurrence', event: eventOf(type, data) }),
      // The app says what its data is; nobody here looks into it.
      onArrive: (listener) => this.#arrived.add(listener as (arrived: Arriving) => void),
      beforeShow: (decide) => {
        this.#decide = decide as (arriving: Arriving) => FrontAnswer | Promise<FrontAnswer>
        return () => {
          this.#decide = undefined
        }
      },
      onOpen: (listener) => {
        const stop = this.#opened.add(listener as (opened: Opened) => void)
        void this.#handOut().catch(report)
        return stop
      },
      history: {
        list: () => history.list(),
        unread: () => history.unread(),
        markRead: async (ids) => {
          await history.read(Date.now(), ids)
          this.#history.tell()
        },
        onChange: (listener) => this.#history.add(listener),
      },
      plans: {
        set: async (plan) => {
          const kept = await plans.set(plan, Date.now(), zoneNow())
          void this.#plans.ring().catch(report)
          return kept
        },
        list: () => plans.list(),
        cancel: (...names) => plans.cancel(names),
        cancelAll: () => plans.cancel(),
      },
      withdraw,
    }
  }
}

/** A CloudEvent (1.0 §3.1) of this page. */
const eventOf = (type: string, data: unknown) => ({
  specversion: '1.0',
  id: crypto.randomUUID(),
  source: location.origin,
  type,
  time: new Date().toISOString(),
  ...(data === undefined ? {} : { data }),
})

const shownNotifications = async (filter: { readonly tag?: string } = {}): Promise<readonly Notification[]> =>
  (await navigator.serviceWorker.ready).getNotifications(filter)

const withdraw: Bell['withdraw'] = async ({ id, tag }) => {
  const shown = await shownNotifications(tag === undefined ? {} : { tag })
  const own = shown.filter((one) => id === undefined || (one.data as { id?: string } | null)?.id === id)
  for (const one of own) one.close()
  return own.length
}
