import { type Coverage, type Covered, covers } from './covers.ts'

/** At most so many notifications in so many hours to one person. */
export type Cap = Coverage & { readonly name: string; readonly most: number; readonly hours: number }

export const capLimits = Object.freeze({ caps: 20, most: 50, hours: 744 })

/** The caps that hold for a notification. */
export const capsFor = (caps: readonly Cap[], notification: Covered): readonly Cap[] =>
  notification.channel?.caps === false ? [] : caps.filter((cap) => covers(cap, notification))

/** So many people’s counts stand together: whoever counts for thousands in a row touches few places. */
export const peopleOfPage = 256

/** Where a person’s counts stand. @param person a user’s number, or that of a device of nobody, below zero */
export const pageOfPerson = (person: number): number => Math.floor(person / peopleOfPage)

/** One notification that counts for a person. */
type Use = { readonly notificationNo: number; readonly atSeconds: number }

const useBytes = 11
const none = -1

/**
 * What counts under one cap for the people of one page: 11 bytes for each notification and person. It is asked and packed for
 * thousands of people in a row, so it makes no object for any of them.
 */
export class CapPage {
  readonly #first: number
  #body: Uint8Array
  #view: DataView
  /** As many uses stand in the body. */
  #length: number
  /** By person, where their last use stands, and by use, where the same person’s one before it does. */
  readonly #last = new Int32Array(peopleOfPage).fill(none)
  #before: Int32Array
  #changed = false

  /** @param body as {@link CapPage.pack} made it */
  constructor(page: number, body: Uint8Array = new Uint8Array()) {
    this.#first = page * peopleOfPage
    this.#length = Math.floor(body.length / useBytes)
    this.#body = body
    this.#view = new DataView(body.buffer, body.byteOffset, body.byteLength)
    this.#before = new Int32Array(this.#length)
    for (let use = 0; use < this.#length; use++) this.#link(use, this.#view.getUint8(use * useBytes))
  }

  #link(use: number, person: number): void {
    this.#before[use] = this.#last[person]!
    this.#last[person] = use
  }

  #notificationOf(use: number): number {
    return this.#view.getUint16(use * useBytes + 1) * 2 ** 32 + this.#view.getUint32(use * useBytes + 3)
  }

  #secondsOf(use: number): number {
    return this.#view.getUint32(use * useBytes + 7)
  }

  /** What counts for a person since an instant, in the order in which it came. */
  usesOf(person: number, sinceSeconds: number): readonly Use[] {
    const uses: Use[] = []
    for (let use = this.#last[person - this.#first]!; use !== none; use = this.#before[use]!) {
      const atSeconds = this.#secondsOf(use)
      if (atSeconds > sinceSeconds) uses.push({ notificationNo: this.#notificationOf(use), atSeconds })
    }
    return uses.reverse()
  }

  /** Whether a notification can count for a person: it counts already, or there is room for it. */
  mayCount(person: number, notificationNo: number, { most, hours }: Cap, nowSeconds: number): boolean {
    const sinceSeconds = nowSeconds - hours * 3_600
    let counted = 0
    for (let use = this.#last[person - this.#first]!; use !== none; use = this.#before[use]!) {
      if (this.#secondsOf(use) <= sinceSeconds) continue
      if (this.#notificationOf(use) === notificationNo) return true
      counted++
    }
    return counted < most
  }

  /** Counts a notification for a person, once. */
  count(person: number, notificationNo: number, { hours }: Cap, nowSeconds: number): void {
    const sinceSeconds = nowSeconds - hours * 3_600
    for (let use = this.#last[person - this.#first]!; use !== none; use = this.#before[use]!)
      if (this.#notificationOf(use) === notificationNo && this.#secondsOf(use) > sinceSeconds) return
    const use = this.#length++
    this.#makeRoom()
    const at = use * useBytes
    this.#view.setUint8(at, person - this.#first)
    this.#view.setUint16(at + 1, Math.floor(notificationNo / 2 ** 32))
    this.#view.setUint32(at + 3, notificationNo % 2 ** 32)
    this.#view.setUint32(at + 7, nowSeconds)
    this.#link(use, person - this.#first)
    this.#changed = true
  }

  #makeRoom(): void {
    if (this.#length <= this.#before.length) return
    const room = Math.max(peopleOfPage, this.#length * 2)
    const body = new Uint8Array(room * useBytes)
    body.set(this.#body.subarray(0, (this.#length - 1) * useBytes))
    this.#body = body
    this.#view = new DataView(body.buffer)
    const before = new Int32Array(room)
    before.set(this.#before)
    this.#before = before
  }

  /** A notification that came to nothing counts no more. */
  refund(person: number, notificationNo: number): void {
    let after = none
    for (let use = this.#last[person - this.#first]!; use !== none; use = this.#before[use]!) {
      if (this.#notificationOf(use) !== notificationNo) {
        after = use
        continue
      }
      if (after === none) this.#last[person - this.#first] = this.#before[use]!
      else this.#before[after] = this.#before[use]!
      this.#changed = true
    }
  }

  /** Whether it says something else than it was read with. */
  get changed(): boolean {
    return this.#changed
  }

  /** @param sinceSeconds what is older is left out */
  pack(sinceSeconds: number): Uint8Array {
    const packed = new Uint8Array(this.#length * useBytes)
    let length = 0
    for (let person = 0; person < peopleOfPage; person++) {
      const from = length
      for (let use = this.#last[person]!; use !== none; use = this.#before[use]!)
        if (this.#secondsOf(use) > sinceSeconds) length++
      // The last one is found first, and is to be read last again.
      for (let use = this.#last[person]!, to = length - 1; use !== none && to >= from; use = this.#before[use]!)
        if (this.#secondsOf(use) > sinceSeconds)
          packed.set(this.#body.subarray(use * useBytes, (use + 1) * useBytes), to-- * useBytes)
    }
    return packed.subarray(0, length * useBytes)
  }
}
