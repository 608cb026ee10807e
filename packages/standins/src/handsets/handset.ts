import type { HandsetChange, Handset as HandsetView, ShownNotification } from '@zbell/contract'
import { type Content, isHandsetAddress, type Presentation } from '@zbell/core'
import { type DeviceCommands, readCommands, type ServicePlace } from '@zbell/kit/states'
import type { Arriving } from '../gateways/arriving.ts'
import type { HandsetState } from './handset-state.ts'
import { becameWords, type Sound, saySound, soundOf, titleOf, whole } from './handset-words.ts'
import { type InstalledApp, openApp } from './installed-app.ts'
import { registrationBody } from './registration-body.ts'

const retryMs = 1_000
/** A lock screen shows so many; older ones fall off. */
const maxShown = 50
const maxLogged = 200
const maxHeld = 50
/** Low power puts off what is not urgent by so long. */
const lowPowerMs = 10_000

/** A virtual device. Its system decides as a phone's does; the app on it runs the kit. */
export class Handset {
  readonly state: HandsetState
  readonly #place: ServicePlace
  readonly #onChange: () => void
  #app: InstalledApp
  #retry: NodeJS.Timeout | undefined
  #off = false

  /** @param onChange something is different now and wants to be put away */
  constructor(state: HandsetState, place: ServicePlace, onChange: () => void = () => {}) {
    this.state = state
    this.#place = place
    this.#onChange = onChange
    this.#app = openApp(state, this.#reach(), onChange)
  }

  /** Starts the app: it registers, or says what is true now, and hands over what is left. */
  async start(): Promise<void> {
    if (this.state.installed === false) return
    await this.#app.registration.keep(registrationBody(this.state))
    this.#handOver()
  }

  switchOff(): void {
    this.#off = true
    clearTimeout(this.#retry)
  }

  /** What its own clock shows. */
  now(): Date {
    return new Date(Date.now() + (this.state.clockOffsetMs ?? 0))
  }

  /** Something came from the gateway. @returns what became of it on this device, now */
  async arrive(arriving: Arriving): Promise<Presentation | 'second-copy' | 'held' | 'not-installed'> {
    const { state } = this
    if (state.installed === false) return 'not-installed'
    if (state.online === false) {
      this.#log(`“${titleOf(arriving)}” waits at the gateway: there is no network`)
      state.held = [...(state.held ?? []), arriving].slice(-maxHeld)
      return 'held'
    }
    if (state.lowPower && arriving.urgency !== 'high') {
      this.#log(`“${titleOf(arriving)}” waits: low power puts off what is not urgent`)
      setTimeout(() => this.#off || void this.#receive(arriving), lowPowerMs).unref()
      return 'held'
    }
    return this.#receive(arriving)
  }

  async #receive({ notification: id, ...arriving }: Arriving): Promise<Presentation | 'second-copy'> {
    const { state } = this
    const where = {
      // The system blocks a channel as it blocks an app.
      permission: this.#blocks(arriving.channel) ? ('denied' as const) : state.permission,
      appState: state.appState,
      doNotDisturb: state.doNotDisturb ?? false,
      zone: state.timeZone,
    }
    const became = await this.#app.reception.arrive(
      { id, ...arriving },
      where,
      this.now(),
      () => state.inFront ?? 'show',
    )
    const sound = soundOf(arriving, became, state.lockScreen)
    this.#log(`“${titleOf(arriving)}” arrived, app ${state.appState}: ${becameWords[became]}${saySound(sound, became)}`)
    if (became === 'shown' || became === 'silenced') this.#show(id ?? `local-${Date.now()}`, arriving, sound)
    if (became === 'woken') this.#withdraw(readCommands(arriving.commands).withdraw)
    if (became === 'replaced') state.toast = arriving.body ? `${arriving.title}: ${arriving.body}` : arriving.title
    this.#onChange()
    this.#handOver()
    return became
  }

  /** The user taps a notification, or one of its buttons. @returns false when it is not there */
  async tap(notification?: string, action?: string): Promise<boolean> {
    const { state } = this
    const there = state.lockScreen.find((one) => notification === undefined || one.notification === notification)
    const button = there?.actions?.find((one) => one.action === action)
    if (!there || (action !== undefined && !button)) return false
    const own = button && state.places?.[`${there.notification} ${button.action}`]
    const shown = this.#take(there.notification)!
    const navigate = own ?? shown.navigate ?? undefined
    const id = shown.notification.startsWith('local-') ? undefined : shown.notification
    const opened = await this.#app.reception.open(
      { id, navigate, ...(action === undefined ? {} : { action }) },
      state.appState,
      this.now(),
    )
    this.#log(`“${shown.title}” was opened${button ? ` with “${button.title}”` : ''}; the app was ${opened.how}`)
    state.locked = false
    state.appState = 'front'
    // The app is ready at once, and goes where the last opening leads.
    const places = await this.#app.reception.takeOpened()
    state.opened = places.at(-1)?.navigate ?? null
    this.#onChange()
    await this.#app.receipts.flush().then((done) => done || this.#later())
    return true
  }

  /** The user puts a notification away. @returns false when it is not there */
  async dismiss(notification?: string): Promise<boolean> {
    const shown = this.#take(notification)
    if (!shown) return false
    this.#log(`“${shown.title}” was dismissed`)
    if (!shown.notification.startsWith('local-')) await this.#app.reception.dismiss(shown.notification, this.now())
    this.#onChange()
    this.#handOver()
    return true
  }

  /** The app asks for permission. @returns false when the system shows no prompt, since it was answered before */
  async ask(answer: 'granted' | 'denied'): Promise<boolean> {
    if (this.state.permission !== 'prompt' || this.state.installed === false) return false
    this.state.permission = answer
    this.#log(`asked for permission: ${answer}`)
    await this.#tellService()
    return true
  }

  /** Switches, turns and carries it. */
  async change(change: HandsetChange): Promise<void> {
    const { state } = this
    const { clockOffsetSeconds, user, ...rest } = change
    const before = { ...state }
    Object.assign(state, Object.fromEntries(Object.entries(rest).filter(([, value]) => value !== undefined)))
    if (clockOffsetSeconds !== undefined) state.clockOffsetMs = clockOffsetSeconds * 1_000
    // A locked screen has no app in front of it.
    if (change.locked && state.appState === 'front') state.appState = 'behind'
    if (change.appState === 'front') state.locked = false
    if (change.appState !== undefined && change.appState !== 'front') state.toast = null
    if (user !== undefined && user !== state.user) await this.#signIn(user)
    const told = Object.keys(change).filter((name) => name !== 'user')
    if (told.length > 0)
      this.#log(told.map((name) => `${name}: ${JSON.stringify(change[name as keyof HandsetChange])}`).join(', '))
    if (['permission', 'muted', 'timeZone', 'user', 'blockedChannels'].some((name) => name in change))
      await this.#tellService()
    if (state.online !== false && before.online === false) await this.#backOnline()
    await this.tick()
    this.#onChange()
  }

  async reboot(): Promise<void> {
    this.state.appState = 'closed'
    this.state.locked = true
    this.state.toast = null
    this.#log('was restarted')
    // The kit starts from what it kept, as after any restart.
    this.#app = openApp(this.state, this.#reach(), this.#onChange)
    await this.tick()
    this.#onChange()
    this.#handOver()
  }

  /** The app is gone, with all that it kept. */
  remove(): void {
    Object.assign(this.state, {
      installed: false,
      kit: {},
      lockScreen: [],
      appState: 'closed',
      toast: null,
      opened: null,
      held: [],
    })
    Object.assign(this.state, {
      topics: [],
      mutedChannels: [],
      user: null,
      muted: false,
      watch: this.state.watch ? [] : null,
    })
    this.#log('the app was removed')
    this.#onChange()
  }

  /** The app is installed anew: another installation, with another token, that nobody has asked for permission yet. */
  async install(address: Pick<HandsetState, 'token' | 'browser'>): Promise<void> {
    Object.assign(this.state, address, { installed: true, kit: {}, permission: 'prompt' })
    this.#app = openApp(this.state, this.#reach(), this.#onChange)
    this.#log('the app was installed')
    await this.start()
    this.#onChange()
  }

  async topic(topic: string, joins: boolean): Promise<void> {
    await this.#app.outbox.add({ say: joins ? 'join' : 'leave', topic })
    const others = (this.state.topics ?? []).filter((one) => one !== topic)
    this.state.topics = joins ? [...others, topic].sort() : others
    this.#log(`${joins ? 'joined' : 'left'} ${topic}`)
    this.#onChange()
    await this.#app.outbox.flush()
  }

  /** The app’s own switch for a channel: it holds on all devices of its user. */
  async channel(channel: string, muted: boolean): Promise<void> {
    await this.#app.outbox.add({ say: 'channel', channel, muted })
    const others = (this.state.mutedChannels ?? []).filter((one) => one !== channel)
    this.state.mutedChannels = muted ? [...others, channel].sort() : others
    this.#log(`${channel} ${muted ? 'muted' : 'rings again'}`)
    this.#onChange()
    await this.#app.outbox.flush()
  }

  #blocks(channel: string | undefined): boolean {
    return channel !== undefined && (this.state.blockedChannels ?? []).includes(channel)
  }

  /** Rings it past the service, to look at a notification while it is being written. */
  async ring(content: Content): Promise<void> {
    await this.arrive({ ...content, notification: undefined, mode: 'show' })
  }

  /** Told without a turn of the event loop, unlike what the kit answers: it is asked of every handset, every second. */
  get hasPlans(): boolean {
    const { plans } = this.state.kit
    return Array.isArray(plans) && plans.length > 0
  }

  /** Rings the plans whose time has come. */
  async tick(): Promise<void> {
    if (this.state.installed === false) return
    const { plans } = this.#app.reception
    for (const { name, content } of await plans.due(
      this.now().getTime(),
      this.state.timeZone,
      this.state.place ?? undefined,
    )) {
      this.#log(`the plan ${name} rings`)
      await this.#receive({ ...content, notification: undefined, mode: 'show' } as Arriving)
    }
  }

  async view(): Promise<HandsetView> {
    const { id, model, platform, user, permission, appState, locked, lockScreen, opened, timeZone, watch, log } =
      this.state
    const { reception, registration } = this.#app
    const plans = await reception.plans.list()
    return {
      id,
      model,
      platform,
      user,
      device: (await registration.deviceId()) ?? null,
      rehearsal: isHandsetAddress(this.state.token),
      installed: this.state.installed ?? true,
      permission,
      muted: this.state.muted ?? false,
      appState,
      locked,
      online: this.state.online ?? true,
      doNotDisturb: this.state.doNotDisturb ?? false,
      lowPower: this.state.lowPower ?? false,
      inFront: this.state.inFront ?? 'show',
      clock: this.now().toISOString(),
      timeZone,
      place: this.state.place ?? null,
      badge: await reception.badge(),
      lockScreen: lockScreen.map(whole),
      watch: watch?.map(whole) ?? null,
      toast: this.state.toast ?? null,
      opened,
      topics: this.state.topics ?? [],
      blockedChannels: this.state.blockedChannels ?? [],
      mutedChannels: this.state.mutedChannels ?? [],
      plans: plans.map(({ name, content, ringsAtMs }) => ({
        name,
        title: content.title,
        ringsAt: ringsAtMs === undefined ? null : new Date(ringsAtMs).toISOString(),
      })),
      log: [...(log ?? [])].reverse(),
    }
  }

  #show(notification: string, arriving: Omit<Arriving, 'notification'>, sound: Sound): void {
    const { state } = this
    const shown: ShownNotification = {
      notification,
      title: arriving.title,
      body: arriving.body ?? null,
      navigate: arriving.navigate ?? null,
      tag: arriving.tag ?? null,
      subtitle: arriving.subtitle ?? null,
      image: arriving.image ?? null,
      accent: arriving.accent ?? null,
      dir: arriving.dir ?? null,
      group: arriving.group ?? null,
      actions: (arriving.actions ?? []).map(({ action, title }) => ({ action, title })),
      heard: sound.heard,
      vibrated: [...sound.vibrated],
      shownAt: this.now().toISOString(),
    }
    for (const { action, navigate } of arriving.actions ?? [])
      if (navigate !== undefined) state.places = { ...state.places, [`${notification} ${action}`]: navigate }
    const others = (list: ShownNotification[]) => list.filter((one) => shown.tag === null || one.tag !== shown.tag)
    state.lockScreen = [shown, ...others(state.lockScreen)].slice(0, maxShown)
    // A watch takes over while nobody looks at the phone.
    if (state.watch && state.locked) state.watch = [shown, ...others(state.watch)].slice(0, maxShown)
  }

  /** Takes back what is shown, by its notification's id or its tag. */
  #withdraw(withdraw: DeviceCommands['withdraw']): void {
    if (!withdraw) return
    const stays = (one: ShownNotification) =>
      !(withdraw.tag !== undefined && one.tag === withdraw.tag) && one.notification !== withdraw.id
    this.state.lockScreen = this.state.lockScreen.filter(stays)
    if (this.state.watch) this.state.watch = this.state.watch.filter(stays)
  }

  #take(notification: string | undefined): ShownNotification | undefined {
    const { state } = this
    const shown = state.lockScreen.find((one) => notification === undefined || one.notification === notification)
    if (!shown) return undefined
    const left = (list: ShownNotification[]) => list.filter((one) => one.notification !== shown.notification)
    state.lockScreen = left(state.lockScreen)
    if (state.watch) state.watch = left(state.watch)
    state.places = Object.fromEntries(
      Object.entries(state.places ?? {}).filter(([name]) => !name.startsWith(`${shown.notification} `)),
    )
    return shown
  }

  async #signIn(user: string | null): Promise<void> {
    this.state.user = user
    this.#log(user === null ? 'signed out' : `${user} signed in`)
    if (user !== null) return
    // The next person must find nothing of the one before.
    await Promise.all([this.#app.reception.history.clear(), this.#app.reception.plans.cancel()])
    this.state.lockScreen = []
    if (this.state.watch) this.state.watch = []
  }

  /** An app without a network tells it when the network is back. */
  async #tellService(): Promise<void> {
    this.#onChange()
    if (this.state.installed === false || this.state.online === false) return
    const { userRefused } = await this.#app.registration.keep(registrationBody(this.state))
    if (userRefused) this.#log(`could not sign in as ${this.state.user}: ${userRefused.detail}`)
  }

  async #backOnline(): Promise<void> {
    const held = this.state.held ?? []
    this.state.held = []
    await this.#tellService()
    for (const arriving of held) await this.arrive(arriving)
    this.#handOver()
  }

  /** What the app's calls go through: the handset's own network. */
  #reach(): ServicePlace {
    const send: typeof fetch = (...given) =>
      this.state.online === false ? Promise.reject(new TypeError('no network')) : fetch(...given)
    return { ...this.#place, fetch: send }
  }

  /** Says in the log what failed; once, though it be tried again every second. */
  noteFailure(what: string, error: unknown): void {
    const line = `${what}: ${error instanceof Error ? error.message : String(error)}`
    if (this.state.log?.at(-1)?.what !== line) this.#log(line)
  }

  #log(what: string): void {
    this.state.log = [...(this.state.log ?? []), { at: this.now().toISOString(), what }].slice(-maxLogged)
  }

  #handOver(): void {
    Promise.all([this.#app.receipts.flush(), this.#app.outbox.flush()]).then(
      (done) => done.every(Boolean) || this.#later(),
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
}
