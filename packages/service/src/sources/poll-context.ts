import { pollEvery, type SourceDefinition } from '@zbell/core/triggers'
import type { SourceSecrets } from './secrets.ts'
import type { SourceLease } from './store/polls.ts'
import type { SourceRow } from './store/sources.ts'
import type { ColumnTypes } from './table-reader.ts'

/** A source whose triggers are so far behind waits for them. */
export const maxWaiting = 20_000

export const rowsText = (count: number): string => `${count.toLocaleString('en')} ${count === 1 ? 'row' : 'rows'}`

/** A poll that is under way. */
export type PollContext = {
  readonly lease: SourceLease
  readonly source: SourceRow
  readonly secrets: SourceSecrets
  readonly signal: AbortSignal
  /** For so many seconds it was not polled, beyond what is usual. */
  readonly late: number
  readonly isRead: boolean
}

export const everySecondsOf = (definition: SourceDefinition): number =>
  definition.kind === 'incoming' ? 0 : (definition.everySeconds ?? pollEvery[definition.kind])

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
  `it was not polled for ${durationText(seconds)}; ${rowsText(found)} had changed`

function durationText(seconds: number): string {
  if (seconds < 120) return `${seconds} seconds`
  return seconds < 7_200 ? `${Math.round(seconds / 60)} minutes` : `${Math.round(seconds / 3_600)} hours`
}
