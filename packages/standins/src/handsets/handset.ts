import type { Handset as HandsetView, Registration as RegistrationBody, ShownNotification } from '@zbell/contract'
import { type AppState, isHandsetAddress, type Permission, type Platform } from '@zbell/core'
import { Arrivals, memoryStorage, ReceiptBook, Registration, type ServicePlace } from '@zbell/kit/states'
import type { Arriving } from '../gateways/arriving.ts'

/** How a browser is reached: its push subscription with the private half of its key. Base64url. */
export type BrowserKeys = {
  readonly subscription: string
  readonly p256dh: string
  readonly privateKey: string
  readonly auth: string
}

/** Everything that a handset is, so that it can be put away and taken up again as it was. Plain JSON. */
export type HandsetState = {
  readonly id: string
  readonly app: string
  readonly model: string
  readonly platform: Platform
  readonly user: string | null
  readonly locale: string
  readonly timeZone: string
  /** The gateway's token; for a browser the endpoint. */
  token: string
  readonly browser?: BrowserKeys
  permission: Permission
  appState: AppState
  locked: boolean
  lockScreen: ShownNotification[]
  opened: string | null
  /** What the kit keeps. */
  readonly kit: Record<string, unknown>
}

const retryMs = 1_000
/** A lock screen shows so many; older ones fall off. */
const mostShown = 50

/** A virtual device. Its system decides as a phone's does; the app on it runs the kit. */
export class Handset {
  readonly state: HandsetState
  readonly #registration: Registration
  readonly #arrivals: Arrivals
  readonly #receipts: ReceiptBook
  readonly #onChange: () => void
  #retry: NodeJS.Timeout | undefined
  #off = false

  /** @param onChange something is different now and wants to be put away */
  constructor(state: HandsetState, place: ServicePlace, onChange: () => void = () => {}) {
    this.state = state
    this.#onChange = onChange
    const kept = memoryStorage(state.kit)
    const storage = {
      ...kept,
      set: async (name: string, value: unknown) => {
        await kept.set(name, value)
        onChange()
      },
    }
    this.#registration = new Registration(storage, place)
    this.#arrivals = new Arrivals(storage)
    this.#receipts = new ReceiptBook(storage, () => this.#registration.client())
  }

  /** Starts the app: it registers, or says what is true now, and hands over what receipts are left. */
  async start(): Promise<void> {
    await this.#registration.keep(this.#registrationBody())
    this.#handOver()
  }

  switchOff(): void {
    this.#off = true
    clearTimeout(this.#retry)
  }

  /** Something came from the gateway. @returns what became of it on this device */
  async arrive(arriving: Arriving, now = new Date()): Promise<'shown' | 'woken' | 'second-copy' | 'not-allowed'> {
    if (!(await this.#arrivals.firstTime(arriving.notification))) return 'second-copy'
    await this.#receipts.add(arriving.notification, 'received', now)
    const became = this.#present(arriving, now)
    if (became === 'shown') await this.#receipts.add(arriving.notification, 'shown', now)
    this.#handOver()
    return became
  }

  /** The user taps a notification. @returns false when it is not there */
  async tap(notification?: string, now = new Date()): Promise<boolean> {
    const shown = this.state.lockScreen.find((one) => notification === undefined || one.notification === notification)
    if (!shown) return false
    this.state.lockScreen = this.state.lockScreen.filter((one) => one !== shown)
    this.state.locked = false
    this.state.appState = 'front'
    this.state.opened = shown.navigate
    await this.#receipts.add(shown.notification, 'opened', now)
    this.#onChange()
    await this.#receipts.flush().then((done) => done || this.#later())
    return true
  }

  async view(now = new Date()): Promise<HandsetView> {
    const { id, model, platform, user, permission, appState, locked, lockScreen, opened } = this.state
    return {
      id,
      model,
      platform,
      user,
      device: (await this.#registration.deviceId()) ?? null,
      rehearsal: isHandsetAddress(this.state.token),
      permission,
      appState,
      locked,
      clock: now.toISOString(),
      badge: lockScreen.length,
      lockScreen,
      opened,
    }
  }

  #present(arriving: Arriving, now: Date): 'shown' | 'woken' | 'not-allowed' {
    if (arriving.mode === 'wake') return 'woken'
    if (this.state.permission !== 'granted') return 'not-allowed'
    const shown: ShownNotification = {
      notification: arriving.notification,
      title: arriving.title,
      body: arriving.body ?? null,
      navigate: arriving.navigate ?? null,
      tag: arriving.tag ?? null,
      shownAt: now.toISOString(),
    }
    const others = this.state.lockScreen.filter((one) => shown.tag === null || one.tag !== shown.tag)
    this.state.lockScreen = [shown, ...others].slice(0, mostShown)
    this.#onChange()
    return 'shown'
  }

  #handOver(): void {
    this.#receipts.flush().then(
      (done) => done || this.#later(),
      () => this.#later(),
    )
  }

  /** The service may be away; receipts keep. */
  #later(): void {
    if (this.#off || this.#retry) return
    this.#retry = setTimeout(() => {
      this.#retry = undefined
      this.#handOver()
    }, retryMs)
  }

  #registrationBody(): RegistrationBody {
    const { platform, token, browser, permission, user, locale, timeZone, model } = this.state
    const facts = {
      permission,
      user,
      locale,
      timeZone,
      model,
      appVersion: '4.2.0',
      systemVersion: platform === 'web' ? '1' : '12',
    }
    if (platform !== 'web') return { platform, token, ...facts }
    if (!browser) throw new TypeError('a browser has keys')
    return {
      platform,
      subscription: { endpoint: token, keys: { p256dh: browser.p256dh, auth: browser.auth } },
      ...facts,
    }
  }
}
