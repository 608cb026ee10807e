import {
  type AppState,
  type Content,
  type FrontAnswer,
  isVisible,
  type Mode,
  type Opening,
  openings,
  type Permission,
  type Presentation,
  presentationOf,
} from '@zbell/core/states'
import { Arrivals } from './arrivals.ts'
import { readCommands } from './device-commands.ts'
import { History } from './history.ts'
import { Kept } from './kept.ts'
import { Plans } from './plans.ts'
import type { ReceiptBook } from './receipt-book.ts'
import type { KitStorage } from './storage.ts'

/** Something that arrived, whichever way. Without an id it is not the service's own: another sender's, or a plan's. */
export type Arriving = Omit<Content, 'data' | 'commands'> & {
  readonly id?: string | undefined
  readonly mode: Mode
  readonly data?: unknown
  /** What the kit is told to do, as it came. */
  readonly commands?: unknown
}

/** How the device is when it arrives. */
export type Where = {
  readonly permission: Permission
  readonly appState: AppState
  readonly doNotDisturb: boolean
  readonly zone: string
}

/** An opening that the app has not heard of yet. */
export type Opened = {
  readonly id?: string | undefined
  readonly how: Opening
  readonly navigate?: string | undefined
  readonly action?: string | undefined
  readonly data?: unknown
}

/** An app in front that has not answered after so long does not hold the notification up any further. */
export const answerWithinMs = 3_000
/** So many openings wait for an app that starts; it can only go to one place. */
const maxOpened = 10

/** What happens on a device when something arrives and when it is opened, the same in a browser, a phone and a handset. */
export class Reception {
  readonly history: History
  readonly plans: Plans
  readonly #arrivals: Arrivals
  readonly #receipts: ReceiptBook
  readonly #opened: Kept<readonly Opened[]>
  /** The number that the last notification set on the app's icon. */
  readonly #badge: Kept<number | null>

  constructor(storage: KitStorage, receipts: ReceiptBook) {
    this.#receipts = receipts
    this.#arrivals = new Arrivals(storage)
    this.#opened = new Kept(storage, 'opened', [])
    this.#badge = new Kept<number | null>(storage, 'badge', null)
    this.history = new History(storage)
    this.plans = new Plans(storage)
  }

  /**
   * Decides what becomes of an arrival, and writes it down.
   * @param ask the app's own hook, asked only while it is in front
   */
  async arrive(
    arriving: Arriving,
    where: Where,
    now: Date,
    ask: () => Promise<FrontAnswer> | FrontAnswer = () => 'show',
  ): Promise<Presentation | 'second-copy'> {
    const { id, mode } = arriving
    if (id !== undefined && !(await this.#arrivals.firstTime(id))) return 'second-copy'
    const { permission, appState, doNotDisturb, zone } = where
    const answer = mode === 'show' && appState === 'front' ? await inTime(ask) : 'show'
    const became = presentationOf({ mode, permission, appState, doNotDisturb, answer })
    if (id !== undefined) {
      await this.#receipts.add(id, 'received', now, { appState, became })
      if (isVisible(became)) await this.#receipts.add(id, 'shown', now, { appState, became })
    }
    if (mode === 'wake') await this.plans.obey(readCommands(arriving.commands), now.getTime(), zone)
    else if (isVisible(became)) {
      const { title, body, navigate, tag, data, badgeCount } = arriving
      await this.#badge.change(() => (typeof badgeCount === 'number' ? badgeCount : null))
      const facts = Object.entries({ body, navigate, tag, data }).filter(([, value]) => value !== undefined)
      await this.history.add({
        id: id ?? `local-${now.getTime()}`,
        title,
        ...(Object.fromEntries(facts) as object),
        atMs: now.getTime(),
      })
    }
    return became
  }

  /** The number on the app's icon: what the last notification said, or how many are unread. */
  async badge(): Promise<number> {
    return (await this.#badge.read()) ?? this.history.unread()
  }

  /** The user opened something: reported, marked as read, and kept until the app asks for it. */
  async open(opened: Omit<Opened, 'how'>, appState: AppState, now: Date): Promise<Opened> {
    const { id, action } = opened
    const whole = { ...opened, how: openings[appState] }
    await this.#badge.change(() => null)
    if (id !== undefined) {
      await this.#receipts.add(id, 'opened', now, { appState, ...(action === undefined ? {} : { action }) })
      await this.history.read(now.getTime(), [id])
    }
    await this.#opened.change((all) => [...all, whole].slice(-maxOpened))
    return whole
  }

  /** The user put it away. */
  async dismiss(id: string, now: Date): Promise<void> {
    await this.#receipts.add(id, 'dismissed', now)
  }

  /** The app is ready: what was opened meanwhile, oldest first, each handed out once. */
  async takeOpened(): Promise<readonly Opened[]> {
    let taken: readonly Opened[] = []
    await this.#opened.change((all) => {
      taken = all
      return all.length === 0 ? all : []
    })
    return taken
  }
}

/** An app that answers too late, or fails, has not said anything. */
async function inTime(ask: () => Promise<FrontAnswer> | FrontAnswer): Promise<FrontAnswer> {
  let timer: ReturnType<typeof setTimeout> | undefined
  const late = new Promise<FrontAnswer>((done) => {
    timer = setTimeout(() => done('show'), answerWithinMs)
  })
  try {
    return await Promise.race([Promise.resolve().then(ask), late])
  } catch {
    return 'show' // The app's own fault; its user sees the notification all the same.
  } finally {
    clearTimeout(timer)
  }
}
