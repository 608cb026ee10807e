import type { AppState } from '@zbell/core/states'
import { type Incoming, readIncoming } from './browser/incoming.ts'
import { indexedDbStorage } from './browser/indexed-db-storage.ts'
import { askPage, tellPage } from './browser/page-line.ts'
import { type DeviceCommands, readCommands } from './states/device-commands.ts'
import { ReceiptBook } from './states/receipt-book.ts'
import { type Arriving, Reception } from './states/reception.ts'
import { Registration, type ServicePlace } from './states/registration.ts'

/** Where the page left the service's address for the worker. */
export const placeName = 'place'

type ShownData = {
  readonly id: string | undefined
  readonly navigate: string | undefined
  readonly data: unknown
  /** Where each action leads, by its name. */
  readonly places: { readonly [action: string]: string }
}

/**
 * Makes a service worker show this service's notifications, and any other declarative push message, and report what
 * becomes of them.
 */
export function installBellWorker(scope: ServiceWorkerGlobalScope): void {
  const bell = new BellWorker(scope)
  scope.addEventListener('install', () => void scope.skipWaiting())
  scope.addEventListener('activate', (event) => event.waitUntil(scope.clients.claim()))
  scope.addEventListener('push', (event) => {
    const incoming = event.data && readIncoming(event.data.text())
    if (incoming) event.waitUntil(bell.arrived(incoming))
  })
  scope.addEventListener('notificationclick', (event) => {
    event.notification.close()
    event.waitUntil(bell.opened(dataOf(event.notification), event.action))
  })
  scope.addEventListener('notificationclose', (event) => {
    const { id } = dataOf(event.notification)
    if (id) event.waitUntil(bell.dismissed(id))
  })
}

class BellWorker {
  readonly #scope: ServiceWorkerGlobalScope
  readonly #receipts: ReceiptBook
  readonly #reception: Reception

  constructor(scope: ServiceWorkerGlobalScope) {
    this.#scope = scope
    const storage = indexedDbStorage()
    this.#receipts = new ReceiptBook(storage, async () => {
      const place = await storage.get<ServicePlace>(placeName)
      return place && new Registration(storage, place).client()
    })
    this.#reception = new Reception(storage, this.#receipts)
  }

  async arrived({ id, mode, title, navigate, badgeCount, commands, options }: Incoming): Promise<void> {
    const arriving: Arriving = { ...options, id, mode, title, navigate, badgeCount, commands }
    const front = (await this.#pages()).find(({ visibilityState }) => visibilityState === 'visible')
    const zone = Intl.DateTimeFormat().resolvedOptions().timeZone
    // A worker gets a push only while the user allows it.
    const where = { permission: 'granted', appState: await this.#appState(), doNotDisturb: false, zone } as const
    const became = await this.#reception.arrive(arriving, where, new Date(), () =>
      front ? askPage(front, arriving) : 'show',
    )
    if (became === 'second-copy') return
    if (became === 'shown') await this.#show({ id, title, navigate, options })
    if (became === 'woken') await this.#withdraw(readCommands(commands).withdraw)
    await this.#badge()
    for (const page of await this.#pages()) tellPage(page, { is: 'arrived', arrived: arriving })
    await this.#receipts.flush()
  }

  async opened({ id, navigate: own, data, places }: ShownData, action: string): Promise<void> {
    const navigate = places[action] ?? own
    await this.#reception.open(
      { id, navigate, data, ...(action ? { action } : {}) },
      await this.#appState(),
      new Date(),
    )
    await this.#badge()
    await Promise.all([this.#receipts.flush(), navigate ? this.#lead(navigate) : undefined])
    for (const page of await this.#pages()) tellPage(page, { is: 'opened' })
  }

  async dismissed(id: string): Promise<void> {
    await this.#reception.dismiss(id, new Date())
    await this.#receipts.flush()
  }

  async #show({
    id,
    title,
    navigate,
    options,
  }: Pick<Incoming, 'id' | 'title' | 'navigate' | 'options'>): Promise<void> {
    const { actions = [], ...rest } = options
    const places = Object.fromEntries(actions.flatMap((one) => (one.navigate ? [[one.action, one.navigate]] : [])))
    const data: ShownData = { id, navigate, data: options.data, places }
    const buttons = actions.map(({ action, title: says, icon }) => ({ action, title: says, ...(icon ? { icon } : {}) }))
    const shown = { ...rest, actions: buttons, data } as NotificationOptions
    await this.#scope.registration.showNotification(title, shown)
  }

  /** Takes back what is shown, by its notification's id or its tag. */
  async #withdraw(which: DeviceCommands['withdraw']): Promise<void> {
    if (!which) return
    for (const one of await this.#scope.registration.getNotifications()) {
      if ((which.tag && one.tag === which.tag) || (which.id && dataOf(one).id === which.id)) one.close()
    }
  }

  /** Brings a page of the app to the place, or opens one. */
  async #lead(navigate: string): Promise<void> {
    const { clients, location } = this.#scope
    const { origin } = new URL(navigate, location.origin)
    const page = (await clients.matchAll({ type: 'window' })).find((one) => new URL(one.url).origin === origin)
    if (!page) {
      await clients.openWindow(navigate)
      return
    }
    await page.focus().catch(() => undefined) // A browser may refuse the focus; the page is still led to its place.
    // A page that this worker does not control cannot be led; then a new one opens there.
    await page.navigate(navigate).catch(() => clients.openWindow(navigate))
  }

  #pages(): Promise<readonly WindowClient[]> {
    return this.#scope.clients.matchAll({ type: 'window', includeUncontrolled: true })
  }

  async #appState(): Promise<AppState> {
    const all = await this.#pages()
    if (all.length === 0) return 'closed'
    return all.some(({ visibilityState }) => visibilityState === 'visible') ? 'front' : 'behind'
  }

  /** The unread count on the app's icon, where the browser has one (W3C Badging). */
  async #badge(): Promise<void> {
    const { navigator } = this.#scope
    const { setAppBadge } = navigator as Partial<Pick<Navigator, 'setAppBadge'>>
    await setAppBadge?.call(navigator, await this.#reception.badge())
  }
}

const dataOf = (notification: Notification): ShownData => {
  const data = notification.data as Partial<ShownData> | null
  return { id: data?.id, navigate: data?.navigate, data: data?.data, places: data?.places ?? {} }
}
