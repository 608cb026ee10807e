import type { FrontAnswer } from '@zbell/core/states'
import type { Arriving, Reception } from '../states/reception.ts'
import { report } from './listeners.ts'
import { appStateOf, permissionNow, zoneNow } from './permission.ts'

/** A timer cannot be set for longer; then it is set again. */
const maxTimerMs = 86_400_000

type Events = {
  /** What to do with a plan that is due while the app is in front. */
  beforeShow(arriving: Arriving): Promise<FrontAnswer>
  onArrive(arriving: Arriving): void
}

/** Rings the plans of this device when they are due, while a page is open. */
export class PlanClock {
  readonly #reception: Reception
  readonly #events: Events
  #timer: ReturnType<typeof setTimeout> | undefined

  constructor(reception: Reception, events: Events) {
    this.#reception = reception
    this.#events = events
  }

  /** Rings what is due and waits for the next; to be called again when a plan changes. */
  async ring(): Promise<void> {
    const { plans } = this.#reception
    for (const { content, name } of await plans.due(Date.now(), zoneNow(), undefined)) {
      const arriving: Arriving = { ...content, mode: 'show' }
      const where = {
        permission: permissionNow(),
        appState: appStateOf(document),
        doNotDisturb: false,
        zone: zoneNow(),
      }
      const became = await this.#reception.arrive(arriving, where, new Date(), () => this.#events.beforeShow(arriving))
      if (became === 'shown') {
        const { title, body, tag = name, navigate, data } = content
        const worker = await navigator.serviceWorker.ready
        await worker.showNotification(title, { ...(body ? { body } : {}), tag, data: { navigate, data } })
      }
      this.#events.onArrive(arriving)
    }
    clearTimeout(this.#timer)
    const next = await plans.next()
    if (next === undefined) return
    const waitMs = Math.min(Math.max(next - Date.now(), 0), maxTimerMs)
    this.#timer = setTimeout(() => void this.ring().catch(report), waitMs)
  }
}
