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

type Kept = {
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
  const storage = indexedDbStorage()
  const receipts = new ReceiptBook(storage, async () => {
    const place = await storage.get<ServicePlace>(placeName)
    return place && new Registration(storage, place).client()
  })
  const reception = new Reception(storage, receipts)

  scope.addEventListener('install', () => void scope.skipWaiting())
  scope.addEventListener('activate', (event) => event.waitUntil(scope.clients.claim()))
  scope.addEventListener('push', (event) => {
    const incoming = event.data && readIncoming(event.data.text())
    if (incoming) event.waitUntil(arrive(incoming))
  })
  scope.addEventListener('notificationclick', (event) => {
    event.notification.close()
    event.waitUntil(opened(kept(event.notification), event.action))
  })
  scope.addEventListener('notificationclose', (event) => {
    const { id } = kept(event.notification)
    if (id) event.waitUntil(reception.dismiss(id, new Date()).then(() => receipts.flush()))
  })

  async function arrive({ id, mode, title, navigate, badgeCount, commands, options }: Incoming): Promise<void> {
    const arriving: Arriving = { ...options, id, mode, title, navigate, badgeCount, commands }
    const front = (await pages()).find(({ visibilityState }) => visibilityState === 'visible')
    const zone = Intl.DateTimeFormat().resolvedOptions().timeZone
    // A worker gets a push only while the user allows it.
    const where = { permission: 'granted', appState: await appState(), doNotDisturb: false, zone } as const
    const became = await reception.arrive(arriving, where, new Date(), () =>
      front ? askPage(front, arriving) : 'show',
    )
    if (became === 'second-copy') return
    if (became === 'shown') {
      const { actions = [], ...rest } = options
      const places = Object.fromEntries(actions.flatMap((one) => (one.navigate ? [[one.action, one.navigate]] : [])))
      const data: Kept = { id, navigate, data: options.data, places }
      const buttons = actions.map(({ action, title: says, icon }) => ({
        action,
        title: says,
        ...(icon ? { icon } : {}),
      }))
      await scope.registration.showNotification(title, { ...rest, actions: buttons, data } as NotificationOptions)
    }
    if (became === 'woken') await withdraw(readCommands(commands).withdraw)
    await badge()
    for (const page of await pages()) tellPage(page, { is: 'arrived', arrived: arriving })
    await receipts.flush()
  }

  /** Takes back what is shown, by its notification's id or its tag. */
  async function withdraw(which: DeviceCommands['withdraw']): Promise<void> {
    if (!which) return
    for (const one of await scope.registration.getNotifications()) {
      if ((which.tag && one.tag === which.tag) || (which.id && kept(one).id === which.id)) one.close()
    }
  }

  async function opened({ id, navigate: own, data, places }: Kept, action: string): Promise<void> {
    const navigate = places[action] ?? own
    await reception.open({ id, navigate, data, ...(action ? { action } : {}) }, await appState(), new Date())
    await badge()
    await Promise.all([receipts.flush(), navigate ? show(navigate) : undefined])
    for (const page of await pages()) tellPage(page, { is: 'opened' })
  }

  /** Brings a page of the app to the place, or opens one. */
  async function show(navigate: string): Promise<void> {
    const page = (await scope.clients.matchAll({ type: 'window' })).find(
      (one) => new URL(one.url).origin === new URL(navigate, scope.location.origin).origin,
    )
    if (!page) {
      await scope.clients.openWindow(navigate)
      return
    }
    await page.focus().catch(() => undefined) // A browser may refuse the focus; the page is still led to its place.
    // A page that this worker does not control cannot be led; then a new one opens there.
    await page.navigate(navigate).catch(() => scope.clients.openWindow(navigate))
  }

  const pages = () => scope.clients.matchAll({ type: 'window', includeUncontrolled: true })

  async function appState(): Promise<AppState> {
    const all = await pages()
    if (all.length === 0) return 'closed'
    return all.some(({ visibilityState }) => visibilityState === 'visible') ? 'front' : 'behind'
  }

  /** The unread count on the app's icon, where the browser has one (W3C Badging). */
  async function badge(): Promise<void> {
    const { setAppBadge } = scope.navigator as Partial<Pick<Navigator, 'setAppBadge'>>
    await setAppBadge?.call(scope.navigator, await reception.badge())
  }
}

const kept = (notification: Notification): Kept => {
  const data = notification.data as Partial<Kept> | null
  return { id: data?.id, navigate: data?.navigate, data: data?.data, places: data?.places ?? {} }
}
