import type { Device } from '@zbell/contract'
import { Client, UnreachableError } from '@zbell/contract/client'
import type { BellOptions } from '../bell.ts'
import { Kept } from '../states/kept.ts'
import type { Registration, ServicePlace } from '../states/registration.ts'
import type { KitStorage } from '../states/storage.ts'
import { placeName } from '../worker.ts'
import { permissionNow, zoneNow } from './permission.ts'
import { browserSubscription } from './push-subscription.ts'
import { Retry } from './retry.ts'

type Facts = { readonly user: string | null; readonly muted: boolean }
type Change = Partial<Facts> & { readonly proof?: string; readonly merge?: boolean }

/** Keeps this browser registered, as what it is now. */
export class PageRegistration {
  readonly #options: BellOptions
  readonly #storage: KitStorage
  readonly #registration: Registration
  readonly #facts: Kept<Facts>
  readonly #retry = new Retry()

  constructor(options: BellOptions, storage: KitStorage, registration: Registration) {
    this.#options = options
    this.#storage = storage
    this.#registration = registration
    this.#facts = new Kept<Facts>(storage, 'facts', { user: null, muted: false })
  }

  /**
   * What changed is kept first of all, so that a service that is not there now hears of it later, by itself.
   * @returns undefined when the service is not there, or while the user has not allowed notifications
   */
  async register(change: Change = {}): Promise<Device | undefined> {
    this.#retry.cancel()
    try {
      const device = await this.#registerNow(change)
      this.#retry.done()
      return device
    } catch (error) {
      if (!(error instanceof UnreachableError)) throw error
      const { user: _user, muted: _muted, ...claims } = change
      this.#retry.later(() => this.register(claims))
      return undefined
    }
  }

  async #registerNow({ merge, proof, ...changed }: Change): Promise<Device | undefined> {
    const { service, appKey, worker: file, appVersion, subscribe = browserSubscription } = this.#options
    const facts = await this.#facts.change((before) => ({ ...before, ...changed }))
    await this.#storage.set(placeName, { url: service, appKey } satisfies ServicePlace)
    const worker = await navigator.serviceWorker.register(file)
    await navigator.serviceWorker.ready
    const claims = proof === undefined ? {} : { proof }
    const merging = merge ? { merge } : {}
    if (permissionNow() !== 'granted') {
      await this.#registration.change({ permission: permissionNow(), ...facts, ...claims, ...merging })
      return undefined
    }
    const app = await new Client({ url: service, bearer: appKey }).call('readInstalledApp', {})
    const subscription = asSubscription(await subscribe(worker, requireKey(app.applicationServerKey)))
    const about = {
      locale: navigator.language,
      timeZone: zoneNow(),
      ...(appVersion === undefined ? {} : { appVersion }),
    }
    return this.#registration.keep(
      { platform: 'web', subscription, permission: 'granted', ...about, ...facts, ...claims },
      merging,
    )
  }
}

function requireKey(applicationServerKey: string | null): string {
  if (applicationServerKey === null) throw new Error('The app has no web push key yet; store one for this environment.')
  return applicationServerKey
}

function asSubscription({ endpoint, keys }: PushSubscriptionJSON) {
  if (!endpoint || !keys?.p256dh || !keys.auth)
    throw new Error('The browser gave a push subscription without its keys.')
  return { endpoint, keys: { p256dh: keys.p256dh, auth: keys.auth } }
}
