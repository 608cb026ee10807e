import type { OwnDevice } from '@zbell/contract'
import { Client, UnreachableError } from '@zbell/contract/client'
import type { BellOptions } from '../bell.ts'
import { Kept } from '../states/kept.ts'
import type { Registration, ServicePlace } from '../states/registration.ts'
import type { KitStorage } from '../states/storage.ts'
import { placeName } from '../worker.ts'
import { report } from './listeners.ts'
import { permissionNow, zoneNow } from './permission.ts'
import { browserSubscription } from './push-subscription.ts'
import { Retry } from './retry.ts'

type Facts = {
  readonly user: string | null
  readonly muted: boolean
  /** What was known of the anonymous person is to become the user’s, as soon as the device is theirs. */
  readonly merge?: boolean
}
type Change = Partial<Facts> & { readonly proof?: string }

/** A proof that takes longer is asked for again later. */
const proofWithinMs = 10_000

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
   * What changed is kept first of all, so that a service that is not there now hears of it later, by itself; and so does one that
   * refused the user for want of a proof.
   * @throws {Error} when a user who signs in is refused and the app has no way to bring another proof
   * @returns undefined when the service is not there, or while the user has not allowed notifications
   */
  async register(change: Change = {}): Promise<OwnDevice | undefined> {
    this.#retry.cancel()
    try {
      const { told, isRegistered } = await this.#registerNow(change)
      if (told?.userRefused && this.#options.proof) this.#retry.later(() => this.register())
      else this.#retry.done()
      // Nobody here can bring another proof: whoever signs in has to hear of it. All else was told.
      if (told?.userRefused && change.user && !this.#options.proof) throw new Error(told.userRefused.detail)
      return isRegistered ? told : undefined
    } catch (error) {
      if (!(error instanceof UnreachableError)) throw error
      const { proof } = change
      this.#retry.later(() => this.register(proof === undefined ? {} : { proof }))
      return undefined
    }
  }

  async #registerNow({ proof: given, ...changed }: Change): Promise<{ told?: OwnDevice; isRegistered: boolean }> {
    const { service, appKey, worker: file, appVersion, subscribe = browserSubscription } = this.#options
    // Whoever signs in without it leaves the anonymous past behind.
    const own = changed.user === undefined ? changed : { merge: false, ...changed }
    const { user, muted, merge } = await this.#facts.change((before) => ({ ...before, ...own }))
    await this.#storage.set(placeName, { url: service, appKey } satisfies ServicePlace)
    const worker = await navigator.serviceWorker.register(file)
    await navigator.serviceWorker.ready
    const isRegistered = permissionNow() === 'granted'
    if (!isRegistered && (await this.#registration.deviceId()) === undefined) return { isRegistered }
    const app = await new Client({ url: service, bearer: appKey }).call('readInstalledApp', {})
    const proof = given ?? (app.requireProof ? await this.#proofOf(user) : undefined)
    const claims = proof === undefined ? {} : { proof }
    const merging = merge ? { merge } : {}
    const told = isRegistered
      ? await this.#registration.keep(
          {
            platform: 'web',
            subscription: asSubscription(await subscribe(worker, requireKey(app.applicationServerKey))),
            permission: 'granted',
            locale: navigator.language,
            timeZone: zoneNow(),
            ...(appVersion === undefined ? {} : { appVersion }),
            user,
            muted,
            ...claims,
          },
          merging,
        )
      : await this.#registration.change({ permission: permissionNow(), user, muted, ...claims, ...merging })
    if (merge && told?.user === user) await this.#facts.change((before) => ({ ...before, merge: false }))
    return { ...(told && { told }), isRegistered }
  }

  /** @returns undefined where none is needed, or none comes: then everything but the user is told all the same */
  async #proofOf(user: string | null): Promise<string | undefined> {
    const { proof } = this.#options
    if (user === null || !proof || (await this.#registration.user()) === user) return undefined
    let timer: ReturnType<typeof setTimeout> | undefined
    const tooLate = new Promise<undefined>((done) => {
      timer = setTimeout(() => done(undefined), proofWithinMs)
    })
    try {
      return await Promise.race([proof(user), tooLate])
    } catch (error) {
      report(error)
      return undefined
    } finally {
      clearTimeout(timer)
    }
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
