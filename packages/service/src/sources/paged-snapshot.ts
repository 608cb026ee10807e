import { createHash } from 'node:crypto'
import type { RowChange, TableLook } from '@zbell/core/triggers'
import { packed, unpacked } from './packed.ts'

/** What a source looked like, page by page, so that it can be compared with what is stored of the poll before. */
export type PagedLook = {
  readonly rows: number
  readonly leftOut: TableLook['leftOut']
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

/** A look that this process has made itself. */
export class OwnLook implements PagedLook {
  readonly #look: TableLook

  constructor(look: TableLook) {
    this.#look = look
  }

  get rows(): number {
    return this.#look.rows
  }

  get leftOut(): TableLook['leftOut'] {
    return this.#look.leftOut
  }

  digestOf(page: number): PageDigest {
    const text = this.#look.page(page)
    return {
      digest: createHash('sha256').update(text).digest().subarray(0, digestBytes),
      isEmpty: text === '',
    }
  }

  async changesOf(page: number, stored: Buffer | undefined): Promise<PageChanges> {
    const text = this.#look.page(page)
    const changes = this.#look.changes(await unpacked(stored), text)
    return { changes, packed: await packed(text) }
  }
}
