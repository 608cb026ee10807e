import type { Device, DeviceChange, Registration as RegistrationBody } from '@zbell/contract'
import { Client, ProblemError } from '@zbell/contract/client'
import type { KitStorage } from './storage.ts'

export type ServicePlace = { readonly url: string; readonly appKey: string; readonly fetch?: typeof fetch }
type KeptRegistration = {
  readonly secret: string
  readonly device: string
  readonly address: string
  readonly installation?: string | null
}

const name = 'registration'
const registerTries = 4
const longestPauseMs = 500

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

  /**
   * Registers, or tells the service what is true now when this installation is registered already.
   * @param more.merge what is known of the anonymous person becomes that of the user in the body
   */
  async keep(body: RegistrationBody, more: { readonly merge?: boolean } = {}): Promise<Device> {
    const address = body.platform === 'web' ? body.subscription.endpoint : body.token
    const kept = await this.#storage.get<KeptRegistration>(name)
    if (kept) {
      const { platform: _, ...facts } = body
      const known = await this.#unlessForgotten(() =>
        this.#clientFor(kept.secret).call('changeOwnDevice', { body: { ...facts, ...more } }),
      )
      if (known) {
        if (kept.address !== address) await this.#storage.set(name, { ...kept, address } satisfies KeptRegistration)
        return known
      }
    }
    const installation = kept?.installation ?? newInstallation()
    const answer = await this.#register({ ...body, installation })
    const { device, secret } = answer
    await this.#storage.set(name, {
      secret,
      device: device.id,
      address,
      installation: answer.installation,
    } satisfies KeptRegistration)
    return device
  }

  /** Another call for the same token can come in between, as from a second page; whoever lost comes again a little later. */
  async #register(body: RegistrationBody & { readonly installation: string }) {
    for (let left = registerTries; ; left--) {
      try {
        return await this.#clientFor(this.#place.appKey).call('registerDevice', { body })
      } catch (error) {
        if (left === 0 || !(error instanceof ProblemError) || error.problem.code !== 'register-again') throw error
        await new Promise((done) => setTimeout(done, Math.random() * longestPauseMs))
      }
    }
  }

  /** Tells the service what changed. @returns `undefined` when there is no registration to change */
  async change(body: DeviceChange): Promise<Device | undefined> {
    const client = await this.client()
    return client && this.#unlessForgotten(() => client.call('changeOwnDevice', { body }))
  }

  /** The app says goodbye; it can come back as the same installation. */
  async leave(): Promise<void> {
    await (await this.client())?.call('unregisterOwnDevice', {})
  }

  /** A service that does not know the secret any more, or the token otherwise, wants to be told from the beginning. */
  async #unlessForgotten(call: () => Promise<Device>): Promise<Device | undefined> {
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
