import type { Device, DeviceChange, Registration as RegistrationBody } from '@zbell/contract'
import { Client, ProblemError } from '@zbell/contract/client'
import type { KitStorage } from './storage.ts'

export type ServicePlace = { readonly url: string; readonly appKey: string; readonly fetch?: typeof fetch }
type Kept = { readonly secret: string; readonly device: string; readonly address: string }

const name = 'registration'

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
    const kept = await this.#storage.get<Kept>(name)
    return kept && this.#clientFor(kept.secret)
  }

  async deviceId(): Promise<string | undefined> {
    return (await this.#storage.get<Kept>(name))?.device
  }

  /** Registers, or tells the service what is true now when the same address is registered already. */
  async keep(body: RegistrationBody): Promise<Device> {
    const address = body.platform === 'web' ? body.subscription.endpoint : body.token
    const kept = await this.#storage.get<Kept>(name)
    if (kept?.address === address) {
      const { platform: _, ...facts } = body
      const known = await this.#unlessForgotten(() =>
        this.#clientFor(kept.secret).call('changeOwnDevice', { body: facts }),
      )
      if (known) return known
    }
    const { device, secret } = await this.#clientFor(this.#place.appKey).call('registerDevice', { body })
    await this.#storage.set(name, { secret, device: device.id, address } satisfies Kept)
    return device
  }

  /** Tells the service what changed. @returns `undefined` when there is no registration to change */
  async change(body: DeviceChange): Promise<Device | undefined> {
    const client = await this.client()
    return client && this.#unlessForgotten(() => client.call('changeOwnDevice', { body }))
  }

  async #unlessForgotten(call: () => Promise<Device>): Promise<Device | undefined> {
    try {
      return await call()
    } catch (error) {
      if (error instanceof ProblemError && error.problem.status === 401) return undefined
      throw error
    }
  }

  #clientFor(bearer: string): Client {
    const { url, fetch } = this.#place
    return new Client({ url, bearer, ...(fetch ? { fetch } : {}) })
  }
}
