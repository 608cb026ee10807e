import { UsageError } from '../exit-codes.ts'

/** Without what is not there. */
export const present = (all: Record<string, unknown>): Record<string, unknown> =>
  Object.fromEntries(Object.entries(all).filter(([, value]) => value !== undefined))

/** @throws {UsageError} */
export function secondsIn(flag: string, text: string | undefined): number | undefined {
  if (text === undefined) return undefined
  if (!/^\d+$/.test(text)) throw new UsageError(`${flag} wants whole seconds, not ${text.slice(0, 40)}.`)
  return Number(text)
}

/** @throws {UsageError} */
export function truthIn(flag: string, text: string | undefined): boolean | undefined {
  if (text === undefined) return undefined
  if (text === 'yes' || text === 'no') return text === 'yes'
  throw new UsageError(`${flag} wants yes or no, not ${text.slice(0, 60)}.`)
}

/** @param what of which it is the number @throws {UsageError} */
export function countIn(flag: string, text: string, what = 'a whole number'): number {
  if (/^\d{1,9}$/.test(text)) return Number(text)
  throw new UsageError(`${flag} wants ${what}, not ${text.slice(0, 60)}.`)
}
