import { lookEvery, type SourceDefinition } from '@zbell/core/triggers'
import type { SourceSecrets } from './secrets.ts'
import type { HeldSource } from './store/polls.ts'
import type { SourceRow } from './store/sources.ts'
import type { ColumnTypes } from './table-reader.ts'

/** A source whose triggers are so far behind waits for them. */
export const mostWaiting = 20_000

export const rowsText = (count: number): string => `${count.toLocaleString('en')} ${count === 1 ? 'row' : 'rows'}`

/** A look that is under way. */
export type Looking = {
  readonly held: HeldSource
  readonly source: SourceRow
  readonly secrets: SourceSecrets
  readonly signal: AbortSignal
  /** For so many seconds nobody had looked, beyond what is usual. */
  readonly late: number
  readonly isRead: boolean
}

export const everySecondsOf = (definition: SourceDefinition): number =>
  definition.kind === 'incoming' ? 0 : (definition.everySeconds ?? lookEvery[definition.kind])

/** Which columns are not what they were, in words. */
export function differing(was: ColumnTypes | null, is: ColumnTypes): string | undefined {
  if (was === null) return undefined
  const said = [...new Set([...Object.keys(was), ...Object.keys(is)])].flatMap((name) =>
    was[name] === is[name]
      ? []
      : [
          `${name} ${was[name] === undefined ? 'is new' : is[name] === undefined ? 'has gone' : `is ${is[name]} now, and was ${was[name]}`}`,
        ],
  )
  return said.length === 0 ? undefined : said.slice(0, 5).join(', ')
}

export const noteOfLate = (seconds: number, found: number): string =>
  `nobody had looked for ${durationText(seconds)}; ${rowsText(found)} had changed`

function durationText(seconds: number): string {
  if (seconds < 120) return `${seconds} seconds`
  return seconds < 7_200 ? `${Math.round(seconds / 60)} minutes` : `${Math.round(seconds / 3_600)} hours`
}
