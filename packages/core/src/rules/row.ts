import { durationOfText, instantOfText } from './duration-text.ts'
import type { Comparison, ReceivedStep } from './term.ts'

/** What a fact is compared with. Durations and instants stay as they are written. */
export type RowValue =
  | { readonly is: 'text' | 'version' | 'instant'; readonly text: string }
  | { readonly is: 'number'; readonly number: number }
  | { readonly is: 'boolean'; readonly yes: boolean }
  /** So long before now, or after it. */
  | { readonly is: 'ago' | 'ahead'; readonly duration: string }
  | { readonly is: 'list'; readonly of: readonly (string | number)[] }

export type FactHow = Comparison | 'in' | 'startsWith' | 'endsWith' | 'contains' | 'known'

/** One line of a rule, as somebody sees it who writes no CEL. */
export type RuleRow =
  | RuleGroup
  /** Of the user, of the device, or when something happened first or last. */
  | {
      readonly is: 'fact'
      readonly of: 'user' | 'device' | 'first' | 'last'
      readonly name: string
      readonly how: FactHow
      /** Undefined where it is only asked whether it is known. */
      readonly value: RowValue | undefined
      readonly not: boolean
    }
  | {
      readonly is: 'times'
      readonly what: 'happened' | ReceivedStep
      /** What happened; empty for what became of notifications. */
      readonly event: string
      readonly how: Comparison
      readonly times: number
      readonly within: string
    }
  | {
      readonly is: 'named'
      readonly what: 'follows' | 'reached' | 'segment'
      readonly name: string
      readonly not: boolean
    }
  | {
      readonly is: 'near'
      readonly place: string
      readonly longitude: number
      readonly latitude: number
      readonly metres: number
      readonly not: boolean
    }
  /** What no row can show. */
  | { readonly is: 'text'; readonly rule: string }

/** Rows of which all hold, or any; or not. */
export type RuleGroup = {
  readonly is: 'group'
  readonly how: 'all' | 'any'
  readonly not: boolean
  readonly rows: readonly RuleRow[]
}

export const noRows: RuleGroup = { is: 'group', how: 'all', not: false, rows: [] }

/** Whether a row has all that it needs to say something. */
export function isWhole(row: RuleRow): boolean {
  switch (row.is) {
    case 'group':
      return row.rows.some(isWhole)
    case 'fact':
      return (
        row.name !== '' &&
        (row.how === 'known' ? row.value === undefined : row.value !== undefined && isGiven(row.value))
      )
    case 'times':
      return Number.isFinite(row.times) && isLength(row.within) && (row.what !== 'happened' || row.event !== '')
    case 'named':
      return row.name !== ''
    case 'near':
      return row.place !== '' && [row.longitude, row.latitude, row.metres].every(Number.isFinite)
    case 'text':
      return row.rule.trim() !== ''
    default:
      return row satisfies never
  }
}

/** Whether it is a duration as CEL writes it. */
export const isLength = (duration: string): boolean => typeof durationOfText(duration) === 'number'

function isGiven(value: RowValue): boolean {
  switch (value.is) {
    case 'number':
      return Number.isFinite(value.number)
    case 'ago':
    case 'ahead':
      return isLength(value.duration)
    case 'instant':
      return typeof instantOfText(value.text) === 'number'
    case 'list':
      return value.of.length > 0
    default:
      return true
  }
}
