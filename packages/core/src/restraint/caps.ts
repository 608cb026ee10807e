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

/**
 * What counts under one cap for the people of one page: the last notifications of each, as 11 bytes each, those of one person
 * after those of another.
 */
export class CapPage {
  readonly #uses = new Map<number, Use[]>()
  readonly #first: number
  #changed = false

  /** @param body as {@link CapPage.pack} made it */
  constructor(page: number, body: Uint8Array = new Uint8Array()) {
    this.#first = page * peopleOfPage
    const view = new DataView(body.buffer, body.byteOffset, body.byteLength)
    for (let at = 0; at + useBytes <= body.length; at += useBytes) {
      const person = this.#first + view.getUint8(at)
      const notificationNo = view.getUint16(at + 1) * 2 ** 32 + view.getUint32(at + 3)
      const use = { notificationNo, atSeconds: view.getUint32(at + 7) }
      const own = this.#uses.get(person)
      if (own) own.push(use)
      else this.#uses.set(person, [use])
    }
  }

  /** What counts for a person since an instant. */
  usesOf(person: number, sinceSeconds: number): readonly Use[] {
    return (this.#uses.get(person) ?? []).filter(({ atSeconds }) => atSeconds > sinceSeconds)
  }

  /** Whether a notification can count for a person: it counts already, or there is room for it. */
  mayCount(person: number, notificationNo: number, { most, hours }: Cap, nowSeconds: number): boolean {
    const uses = this.usesOf(person, nowSeconds - hours * 3_600)
    return uses.length < most || uses.some((use) => use.notificationNo === notificationNo)
  }

  /** Counts a notification for a person, once. What is older than the cap looks back is dropped. */
  count(person: number, notificationNo: number, { hours }: Cap, nowSeconds: number): void {
    const kept = this.usesOf(person, nowSeconds - hours * 3_600)
    if (kept.some((use) => use.notificationNo === notificationNo)) return
    this.#uses.set(person, [...kept, { notificationNo, atSeconds: nowSeconds }])
    this.#changed = true
  }

  /** A notification that came to nothing counts no more. */
  giveBack(person: number, notificationNo: number): void {
    const uses = this.#uses.get(person)
    const kept = uses?.filter((use) => use.notificationNo !== notificationNo)
    if (!uses || !kept || kept.length === uses.length) return
    this.#uses.set(person, kept)
    this.#changed = true
  }

  /** Whether it says something else than it was read with. */
  get changed(): boolean {
    return this.#changed
  }

  /** @param sinceSeconds what is older is left out */
  pack(sinceSeconds: number): Uint8Array {
    const all = [...this.#uses].flatMap(([person, uses]) =>
      uses.filter(({ atSeconds }) => atSeconds > sinceSeconds).map((use) => ({ person, ...use })),
    )
    const body = new Uint8Array(all.length * useBytes)
    const view = new DataView(body.buffer)
    for (const [i, { person, notificationNo, atSeconds }] of all.entries()) {
      const at = i * useBytes
      view.setUint8(at, person - this.#first)
      view.setUint16(at + 1, Math.floor(notificationNo / 2 ** 32))
      view.setUint32(at + 3, notificationNo % 2 ** 32)
      view.setUint32(at + 7, atSeconds)
    }
    return body
  }
}
