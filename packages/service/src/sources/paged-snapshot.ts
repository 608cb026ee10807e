import { createHash } from 'node:crypto'
import type { RowChange, TableSnapshot } from '@zbell/core/triggers'
import { packed, unpacked } from './packed.ts'

/** What a source looked like, page by page, so that it can be compared with what is stored of the poll before. */
export type PagedSnapshot = {
  readonly rows: number
  readonly leftOut: TableSnapshot['leftOut']
  digestOf(page: number): PageDigest
  /**
   * @param stored the page as it was stored, packed
   * @throws {TableRefused} for a key that stands twice
   */
  changesOf(page: number, stored: Buffer | undefined): Promise<PageChanges>
}

export type PageDigest = { readonly digest: Buffer; readonly isEmpty: boolean }
export type PageChanges = { readonly changes: readonly RowChange[]; readonly packed: Buffer }

export const digestBytes = 16

/** A poll that this process has made itself. */
export class OwnSnapshot implements PagedSnapshot {
  readonly #poll: TableSnapshot

  constructor(snapshot: TableSnapshot) {
    this.#poll = snapshot
  }

  get rows(): number {
    return this.#poll.rows
  }

  get leftOut(): TableSnapshot['leftOut'] {
    return this.#poll.leftOut
  }

  digestOf(page: number): PageDigest {
    const text = this.#poll.page(page)
    return {
      digest: createHash('sha256').update(text).digest().subarray(0, digestBytes),
      isEmpty: text === '',
    }
  }

  async changesOf(page: number, stored: Buffer | undefined): Promise<PageChanges> {
    const text = this.#poll.page(page)
    const changes = this.#poll.changes(await unpacked(stored), text)
    return { changes, packed: await packed(text) }
  }
}
