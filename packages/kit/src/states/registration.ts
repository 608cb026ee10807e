import type { DeviceChange, OwnDevice, Registration as RegistrationBody } from '@zbell/contract'
import { Client, ProblemError } from '@zbell/contract/client'
import type { KitStorage } from './storage.ts'

export type ServicePlace = { readonly url: string; readonly appKey: string; readonly fetch?: typeof fetch }
type KeptRegistration = {
  readonly secret: string
  readonly device: string
  readonly address: string
  readonly installation?: string | null
  /** Whose the device is, as the service said last. */
  readonly user?: string | null
}

const name = 'registration'
/** Together longer than a registration is waited for when its answer was lost. */
const pausesMs = [250, 750, 2_000, 4_000, 6_000]

/** One installation's tie to the service: registered once, kept up to date, and registered again when it was forgotten. */
export class Registration {
  readonly #storage: KitStorage
  readonly #place: ServicePlace

  constructor(storage: KitStorage, place: ServicePlace) {
    this.#storage = storage
    this.#place = place
  }

  /** Speaks for the device; `undefined` before it is registered. */
  async client(): Promise<Client | undefined> {
    const kept = await this.#storage.get<KeptRegistration>(name)
    return kept && this.#clientFor(kept.secret)
  }

  async deviceId(): Promise<string | undefined> {
    return (await this.#storage.get<KeptRegistration>(name))?.device
  }

  /** Whose the device is; null for nobody’s, or before it is registered. */
  async user(): Promise<string | null> {
    return (await this.#storage.get<KeptRegistration>(name))?.user ?? null
  }

  /**
   * Registers, or tells the service what is true now when this installation is registered already.
   * @param more.merge what is known of the anonymous person becomes that of the user in the body
   */
  async keep(body: RegistrationBody, more: { readonly merge?: boolean } = {}): Promise<OwnDevice> {
    const address = body.platform === 'web' ? body.subscription.endpoint : body.token
    const kept = await this.#storage.get<KeptRegistration>(name)
    if (kept) {
      const { platform: _, ...facts } = body
      const known = await this.#unlessForgotten(() =>
        this.#clientFor(kept.secret).call('changeOwnDevice', { body: { ...facts, ...more } }),
      )
      if (known) {
        await this.#storage.set(name, { ...kept, address, user: known.user } satisfies KeptRegistration)
        return known
      }
    }
    const { device, secret, installation, userRefused } = await this.#register(body)
    const { id, user } = device
    await this.#storage.set(name, { secret, device: id, address, installation, user } satisfies KeptRegistration)
    return { ...device, userRefused }
  }

  /**
   * Shows the secret that is kept: it makes this the device that it was. A second page of the same browser can be
   * registering at this moment; whoever comes later waits for it, and shows the secret that it kept.
   */
  async #register(body: RegistrationBody) {
    const madeUp = newInstallation()
    for (const pauseMs of [...pausesMs, undefined]) {
      const kept = await this.#storage.get<KeptRegistration>(name)
      const own = { installation: kept?.installation ?? madeUp, ...(kept ? { secret: kept.secret } : {}) }
      try {
        return await this.#clientFor(this.#place.appKey).call('registerDevice', { body: { ...body, ...own } })
      } catch (error) {
        const again = error instanceof ProblemError && error.problem.code === 'register-again'
        if (!again || pauseMs === undefined) throw error
        await new Promise((done) => setTimeout(done, pauseMs * (0.75 + Math.random() / 2)))
      }
    }
    throw new Error('Registering ended without an answer.')
  }

  /** Tells the service what changed. @returns `undefined` when there is no registration to change */
  async change(body: DeviceChange): Promise<OwnDevice | undefined> {
    const kept = await this.#storage.get<KeptRegistration>(name)
    const changed =
      kept && (await this.#unlessForgotten(() => this.#clientFor(kept.secret).call('changeOwnDevice', { body })))
    if (changed) await this.#storage.set(name, { ...kept, user: changed.user } satisfies KeptRegistration)
    return changed
  }

  /** The app says goodbye; it can come back as the same installation. */
  async leave(): Promise<void> {
    await (await this.client())?.call('unregisterOwnDevice', {})
  }

  /** A service that does not know the secret any more, or the token otherwise, wants to be told from the beginning. */
  async #unlessForgotten(call: () => Promise<OwnDevice>): Promise<OwnDevice | undefined> {
    try {
      return await call()
    } catch (error) {
      if (!(error instanceof ProblemError)) throw error
      const { status, code } = error.problem
      if (status === 401 || code === 'register-again') return undefined
      throw error
    }
  }

  #clientFor(bearer: string): Client {
    const { url, fetch } = this.#place
    return new Client({ url, bearer, ...(fetch ? { fetch } : {}) })
  }
}

/** 128 bits of chance name an installation; it is made up here, and means nothing anywhere else. */
function newInstallation(): string {
  const bytes = crypto.getRandomValues(new Uint8Array(16))
  return [...bytes].map((byte) => byte.toString(16).padStart(2, '0')).join('')
}
