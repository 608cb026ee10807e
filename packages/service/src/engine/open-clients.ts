import { type Content, isHandsetAddress, type Platform, ProfileAtFault, type Reason } from '@zbell/core'
import { platformName } from '@zbell/core/policy'
import type { Notification } from './notification.ts'
import type { Address, GatewayClient, Gateways, PreparedRequest } from './ports.ts'
import { sendable } from './sendable.ts'

/** A client that a block sends by, and each distinct content made ready for it once. */
export type OpenClient = {
  readonly client: GatewayClient
  readonly prepared: Map<string, PreparedRequest>
  /** Contents of which its gateway profile makes no request, and why. */
  readonly faults: Map<string, ProfileAtFault>
  readonly platform: Platform
  readonly rehearsal: boolean
  /** Whether the gateway took anything of this block. */
  accepted: boolean
}

/** Texts that name each reader are many; what was made ready for the first ones is forgotten. */
const preparedKept = 500

const nameOf = (platform: Platform, rehearsal: boolean): string => (rehearsal ? `${platform} rehearsal` : platform)

/** The clients of one block: one for each platform, and one more for its virtual handsets. */
export class OpenClients {
  readonly #notification: Omit<Notification, 'no'>
  readonly #gateways: Gateways
  readonly #clients = new Map<string, OpenClient | Reason | 'fault'>()

  constructor(notification: Omit<Notification, 'no'>, gateways: Gateways) {
    this.#notification = notification
    this.#gateways = gateways
  }

  /** What a device needs, when it is at hand: the fast way, without a promise. */
  atHand(
    { platform, token }: Pick<Address, 'token'> & { readonly platform: Platform },
    content: string,
  ): { readonly open: OpenClient; readonly request: PreparedRequest } | undefined {
    const open = this.#clients.get(nameOf(platform, isHandsetAddress(token)))
    if (typeof open !== 'object' || open.client.state !== 'open') return undefined
    const request = open.prepared.get(content)
    return request && { open, request }
  }

  /**
   * A platform's client; looked for again when its credential was changed in the middle of a block.
   * @param onFault is called with why it is a fault
   */
  async open(
    { platform, token }: Pick<Address, 'token'> & { readonly platform: Platform },
    onFault: (error: unknown) => void,
  ): Promise<OpenClient | Reason | 'fault'> {
    const rehearsal = isHandsetAddress(token)
    const name = nameOf(platform, rehearsal)
    const known = this.#clients.get(name)
    if (known !== undefined && (typeof known === 'string' || known.client.state !== 'stale')) return known
    const opened = await this.#ask(platform, rehearsal).catch((error: unknown) => {
      onFault(error)
      return 'fault' as const
    })
    this.#clients.set(name, opened)
    return opened
  }

  /**
   * The same, ahead of its time: what does not work out is not kept, but asked for again by `open`.
   * @throws why it is a fault
   */
  async openAhead({
    platform,
    token,
  }: Pick<Address, 'token'> & { readonly platform: Platform }): Promise<OpenClient | undefined> {
    const rehearsal = isHandsetAddress(token)
    const name = nameOf(platform, rehearsal)
    const known = this.#clients.get(name)
    if (known !== undefined) return typeof known === 'object' ? known : undefined
    const opened = await this.#ask(platform, rehearsal)
    if (typeof opened === 'string') return undefined
    this.#clients.set(name, opened)
    return opened
  }

  async #ask(platform: Platform, rehearsal: boolean): Promise<OpenClient | Reason> {
    const { appNo, environment } = this.#notification
    const client = await this.#gateways.client(appNo, environment, platform, rehearsal)
    return typeof client === 'string'
      ? client
      : { client, prepared: new Map(), faults: new Map(), platform, rehearsal, accepted: false }
  }

  /**
   * Makes a content ready for a client, once.
   * @param aheadMs by how much the database's clock is ahead of this process's
   * @throws what went wrong in shaping it
   */
  async prepare(
    { client, prepared, faults, platform }: OpenClient,
    { content, name }: { readonly content: Content; readonly name: string },
    aheadMs: number,
  ): Promise<PreparedRequest> {
    const known = prepared.get(name)
    if (known) return known
    const fault = faults.get(name)
    if (fault) throw fault
    const { channel } = this.#notification
    const named = channel ? { ...content, channel: platformName(channel, platform) } : content
    const made = await client.prepare(sendable(this.#notification, named, aheadMs)).catch((error: unknown) => {
      // The next device with the same content would find the same.
      if (error instanceof ProfileAtFault && faults.size < preparedKept) faults.set(name, error)
      throw error
    })
    if (prepared.size >= preparedKept) prepared.clear()
    prepared.set(name, made)
    return made
  }

  /** Those whose gateway took something of this block. */
  get accepted(): readonly OpenClient[] {
    return [...this.#clients.values()].filter((one) => typeof one === 'object').filter(({ accepted }) => accepted)
  }
}
