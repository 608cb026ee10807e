import {
  type CryptoPort,
  decryptMessage,
  fromBase64url,
  handsetMark,
  isHandsetAddress,
  type Platform,
  toBase64url,
} from '@zbell/core'
import type { ServicePlace } from '@zbell/kit/states'
import type { Arriving } from '../gateways/arriving.ts'
import type { PushService } from '../gateways/push-service.ts'
import type { TokenMint } from '../gateways/tokens.ts'
import { Handset } from './handset.ts'
import type { HandsetState } from './handset-state.ts'

export type NewHandset = Pick<HandsetState, 'id' | 'app' | 'model' | 'platform' | 'user'> &
  Partial<Pick<HandsetState, 'permission' | 'locale' | 'timeZone'>> & {
    /** With a watch that mirrors it. */
    readonly watch?: boolean
    /** Its token is marked as a handset's, so that it rings without any credential. */
    readonly rehearsal?: boolean
  }

export type RoomParts = {
  readonly mints: { readonly ios: TokenMint; readonly android: TokenMint }
  readonly push: () => PushService
  readonly crypto: CryptoPort
  /** Where an app's handsets find the service. */
  readonly place: (app: string) => ServicePlace
  readonly onChange: () => void
}

/** All handsets, found by their tokens as a gateway finds them. */
export class HandsetRegistry {
  readonly #parts: RoomParts
  readonly #handsets = new Map<string, Handset>()
  readonly #byToken = new Map<string, Handset>()
  readonly #detach = new Map<string, () => void>()

  constructor(parts: RoomParts) {
    this.#parts = parts
  }

  get states(): HandsetState[] {
    return [...this.#handsets.values()].map((handset) => handset.state)
  }

  list(app: string): Handset[] {
    return [...this.#handsets.values()].filter((handset) => handset.state.app === app)
  }

  find(app: string, id: string): Handset | undefined {
    return this.#handsets.get(nameOf({ app, id }))
  }

  /** Makes a handset and switches it on. @param vapidKey for a browser: the app's applicationServerKey */
  async make({ rehearsal = false, watch = false, ...given }: NewHandset, vapidKey?: string): Promise<Handset> {
    const defaults = { permission: 'granted', locale: 'en', timeZone: 'Atlantic/Faroe' } as const
    const state: HandsetState = {
      ...defaults,
      ...given,
      ...this.#address(given.platform, vapidKey, rehearsal ? handsetMark : ''),
      appState: 'closed',
      locked: true,
      lockScreen: [],
      opened: null,
      watch: watch ? [] : null,
      kit: {},
    }
    return this.restore(state)
  }

  /** Takes up a handset that was put away. */
  async restore(state: HandsetState): Promise<Handset> {
    const handset = new Handset(state, this.#parts.place(state.app), this.#parts.onChange)
    this.#handsets.set(nameOf(state), handset)
    if (state.browser) {
      // The push service may listen on another port than last time; the subscription is the same.
      state.token = this.#parts.push().endpoint(state.browser.subscription)
      this.#listen(handset, state.browser)
    } else this.#byToken.set(state.token, handset)
    try {
      await handset.start()
    } catch (error) {
      this.#forget(handset)
      throw error
    }
    this.#parts.onChange()
    return handset
  }

  #forget(handset: Handset): void {
    const { state } = handset
    handset.switchOff()
    this.#handsets.delete(nameOf(state))
    this.#byToken.delete(state.token)
    this.#detach.get(nameOf(state))?.()
    this.#detach.delete(nameOf(state))
    if (state.browser) this.#parts.push().unsubscribe(state.browser.subscription)
  }

  /** A message for a token; nobody has some tokens, and then nobody hears it. */
  handOver(token: string, arriving: Arriving): void {
    const handset = this.#byToken.get(token)
    if (handset) void handset.arrive(arriving)
  }

  /** Rings the plans whose time has come. Thousands of handsets that have none cost next to nothing. */
  tick(): void {
    for (const handset of this.#handsets.values()) {
      if (!handset.hasPlans) continue
      handset.tick().catch((error: unknown) => handset.noteFailure('a plan could not ring', error))
    }
  }

  /** The app is removed from a handset: its token belongs to no installation any more. */
  remove(handset: Handset): void {
    const { state } = handset
    this.#leave(state)
    handset.remove()
  }

  /** @param vapidKey for a browser */
  async install(handset: Handset, vapidKey?: string): Promise<void> {
    const { state } = handset
    const address = this.#address(state.platform, vapidKey, isHandsetAddress(state.token) ? handsetMark : '')
    if (!address.browser) this.#byToken.set(address.token, handset)
    await handset.install(address)
    if (address.browser) this.#listen(handset, address.browser)
  }

  /** Throws a handset away; its token is gone with it. */
  discard(handset: Handset): void {
    this.#leave(handset.state)
    this.#forget(handset)
    this.#parts.onChange()
  }

  #leave(state: HandsetState): void {
    if (state.platform !== 'web') this.#parts.mints[state.platform].retire(state.token)
    else if (state.browser) this.#parts.push().unsubscribe(state.browser.subscription)
    this.#byToken.delete(state.token)
    this.#detach.get(nameOf(state))?.()
    this.#detach.delete(nameOf(state))
  }

  close(): void {
    for (const detach of this.#detach.values()) detach()
    for (const handset of this.#handsets.values()) handset.switchOff()
  }

  #address(
    platform: Platform,
    vapidKey: string | undefined,
    mark: '' | typeof handsetMark,
  ): Pick<HandsetState, 'token' | 'browser'> {
    if (platform !== 'web') return { token: this.#parts.mints[platform].mint(mark) }
    const { crypto, push } = this.#parts
    const keys = crypto.p256KeyPair()
    const { id, endpoint } = push().subscribe(vapidKey, mark)
    return {
      token: endpoint,
      browser: {
        subscription: id,
        p256dh: toBase64url(keys.publicKey),
        privateKey: toBase64url(keys.privateKey),
        auth: toBase64url(crypto.randomBytes(16)),
      },
    }
  }

  #listen(handset: Handset, browser: NonNullable<HandsetState['browser']>): void {
    const [publicKey, privateKey, auth] = [browser.p256dh, browser.privateKey, browser.auth].map((text) =>
      fromBase64url(text),
    )
    if (!publicKey || !privateKey || !auth) throw new TypeError('a browser’s keys are base64url')
    const detach = this.#parts.push().attach(browser.subscription, (body) => {
      const text = new TextDecoder().decode(decryptMessage(body, { publicKey, privateKey, auth }, this.#parts.crypto))
      const {
        notification,
        zephyr,
        app_badge: badgeCount,
      } = JSON.parse(text) as {
        notification: Omit<Arriving, 'notification' | 'mode'>
        zephyr: Pick<Arriving, 'notification' | 'mode' | 'group'>
        app_badge?: number
      }
      void handset.arrive({ ...notification, ...zephyr, badgeCount })
    })
    if (detach) this.#detach.set(nameOf(handset.state), detach)
  }
}

/** Two apps may each have a handset of the same name. */
const nameOf = ({ app, id }: { readonly app: string; readonly id: string }): string => `${app}/${id}`
