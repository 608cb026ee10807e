import type { CursorValue, PollSource, Row, TableSource } from '@zbell/core/triggers'
import type { ReaderReach } from './connect.ts'
import type { PageChanges, PagedSnapshot } from './paged-snapshot.ts'
import type { ColumnTypes, Place, TableReader } from './table-reader.ts'

type Answer<Method extends keyof TableReader> = TableReader[Method] extends (...given: never) => Promise<infer A>
  ? A
  : never

/** What is read in a session. */
export type ReadFrom =
  | {
      readonly is: 'database'
      /** The source whose connection is kept for the next poll; undefined for a connection of its own. */
      readonly sourceNo: number | undefined
      readonly url: string
      readonly source: TableSource
    }
  /** @property json what the source’s expression made of an answer */
  | { readonly is: 'answer'; readonly json: string; readonly source: PollSource }

/** What a reader process does in a session, by name. */
export type ReaderCalls = {
  /** Connects, or takes up the connection that was kept of a source, and begins to read. */
  open: { input: { readonly from: ReadFrom; readonly reach: ReaderReach }; output: undefined }
  /** Reads rows whole, and keeps what they looked like until the end. `digests` has those of all pages, one after the other. */
  snapshot: {
    input: undefined
    output: {
      readonly rows: number
      readonly leftOut: PagedSnapshot['leftOut']
      readonly digests: Buffer
      readonly emptyPages: readonly number[]
      readonly types: ColumnTypes
    }
  }
  changes: {
    input: { readonly page: number; readonly stored: Buffer | undefined }
    output: PageChanges
  }
  rows: { input: { readonly rows: readonly Row[]; readonly types: ColumnTypes }; output: Answer<'rows'> }
  last: { input: undefined; output: Answer<'last'> }
  next: {
    input: { readonly from: CursorValue | null; readonly behind: Place | undefined; readonly limit: number }
    output: Answer<'next'>
  }
  sample: {
    input: undefined
    output: {
      readonly columns: readonly { readonly name: string; readonly type: string }[]
      readonly rows: readonly Row[]
    }
  }
  /** Ends the session. @property keep whether the connection is kept for the source */
  close: { input: { readonly keep: boolean }; output: undefined }
}

export type CallName = keyof ReaderCalls

/** What the service sends to a reader. */
export type ReaderMessage = {
  readonly no: number
  readonly session: number
  readonly name: CallName
  readonly input: unknown
}

/** What a reader sends back: first that it is ready. */
export type ReaderAnswer =
  | { readonly is: 'ready' }
  | { readonly is: 'done'; readonly no: number; readonly output: unknown }
  /** @property says what is wrong with the source */
  | { readonly is: 'fault'; readonly no: number; readonly says: string }
  | { readonly is: 'failed'; readonly no: number; readonly stack: string }
