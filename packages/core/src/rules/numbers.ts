/**
 * Beyond this a number counts as too large: far enough below what a double can hold that a database which ends a statement on
 * an overflow never comes to one.
 */
export const largest = 1.7e308

/** Small enough that no product of two numbers, each made smaller by it, is too large: 2^-513. */
export const scale = 2 ** -513

/** Calculations whose result is neither yes nor no where it would not be a number, or too large. */
export const guarded = {
  '+': (a: number, b: number) => (Math.abs(a / 2 + b / 2) > largest / 2 ? undefined : a + b),
  '-': (a: number, b: number) => (Math.abs(a / 2 - b / 2) > largest / 2 ? undefined : a - b),
  '*': (a: number, b: number) => (Math.abs(a * scale * (b * scale)) > largest * scale * scale ? undefined : a * b),
  '/': (a: number, b: number) => (b === 0 || Math.abs(a) > largest * Math.min(Math.abs(b), 1) ? undefined : a / b),
  '%': (a: number, b: number) => (b === 0 ? undefined : a % b),
} as const satisfies Readonly<Record<string, (a: number, b: number) => number | undefined>>

/** The mean radius of the earth in metres (IUGG). */
const earth = 6_371_008.8
const radians = (degrees: number): number => (degrees * Math.PI) / 180

/** What the haversine of two places may be at most for them to lie within so many metres. */
export const haversineWithin = (metres: number): number => Math.sin(Math.min(metres / (2 * earth), Math.PI / 2)) ** 2

/** The haversine of the angle between two places, in degrees. */
export const haversine = (longitude: number, latitude: number, otherLongitude: number, otherLatitude: number): number =>
  Math.sin(radians(latitude - otherLatitude) / 2) ** 2 +
  Math.cos(radians(latitude)) *
    Math.cos(radians(otherLatitude)) *
    Math.sin(radians(longitude - otherLongitude) / 2) ** 2

const version = /^(\d{1,9})(?:\.(\d{1,9}))?(?:\.(\d{1,9}))?(?:\.(\d{1,9}))?(?![\d.])/

/**
 * A version as a text that is in the order in which people count: up to four numbers, of which those that are left out are 0.
 * What follows after them, such as `-beta`, does not count.
 * @returns undefined for what is no version
 */
export function versionKey(text: string): string | undefined {
  const found = version.exec(text)
  return found
    ?.slice(1)
    .map((one = '0') => one.padStart(9, '0'))
    .join('')
}

/** By code points, which is the order of UTF-8 as well. @returns below 0, 0 or above 0 */
export function compareTexts(a: string, b: string): number {
  const most = Math.min(a.length, b.length)
  for (let i = 0; i < most; i++) {
    const [left, right] = [a.charCodeAt(i), b.charCodeAt(i)]
    if (left === right) continue
    // A surrogate stands for what lies above all of the first plane.
    const isPair = (unit: number) => unit >= 0xd800 && unit <= 0xdfff
    return isPair(left) !== isPair(right) ? (isPair(left) ? 1 : -1) : left - right
  }
  return a.length - b.length
}
