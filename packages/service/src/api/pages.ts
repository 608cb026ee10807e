import { Problem } from '../base/index.ts'
import { isPlace } from '../database/index.ts'

/** The place of a name in a list that is in the order of names. */
export const placeOfName = (name: string): string => Buffer.from(name).toString('base64url')
export function nameAtPlace(place: string | undefined): string | undefined {
  if (place === undefined) return undefined
  const name = Buffer.from(place, 'base64url').toString()
  if (!/^[\x20-\x7e]*$/.test(name) || placeOfName(name) !== place) throw notAPlace()
  return name
}

/** A place in a list that can be put in any order. */
export function sortedPlace(place: string | undefined): string | undefined {
  if (place !== undefined && !isPlace(place)) throw notAPlace()
  return place
}

/** @throws {Problem} `invalid-request` */
const notAPlace = (): Problem =>
  new Problem('invalid-request', 'This is not a place in this list; give back what `next` answered.', [
    { pointer: '?after', detail: 'is not a place in this list' },
  ])

/** The number at a place of a list that is in the order of numbers. */
export function numberAtPlace(place: string | undefined): number | undefined {
  if (place === undefined) return undefined
  if (!/^\d{1,15}$/.test(place)) throw notAPlace()
  return Number(place)
}

/** One page of rows: one more than asked for is read, to know whether another page follows. */
export function pageView<R, V>(
  rows: readonly R[],
  limit: number,
  placeOf: (row: R) => number | string,
  view: (row: R) => V,
) {
  const items = rows.slice(0, limit)
  const last = items.at(-1)
  return { items: items.map(view), next: rows.length > limit && last !== undefined ? String(placeOf(last)) : null }
}
