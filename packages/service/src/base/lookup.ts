import { Batcher } from './batcher.ts'

/**
 * Looks many things up by their hashes with one statement: whoever asks while a statement is under way is answered by the
 * next one. Nothing is kept, so an answer is never older than its question.
 */
export class Lookup<Row> {
  readonly #batcher: Batcher<Buffer, Row | undefined>

  /** @param find the rows that have these hashes, each once @param hashOf the hash by which a row is found */
  constructor(find: (hashes: Buffer[]) => Promise<Row[]>, hashOf: (row: Row) => Buffer, most = 500) {
    this.#batcher = new Batcher(
      async (hashes) => {
        const distinct = new Map(hashes.map((hash) => [hash.toString('base64'), hash]))
        const rows = new Map((await find([...distinct.values()])).map((row) => [hashOf(row).toString('base64'), row]))
        return hashes.map((hash) => rows.get(hash.toString('base64')))
      },
      most,
      'at-once',
    )
  }

  find(hash: Buffer): Promise<Row | undefined> {
    return this.#batcher.add(hash)
  }
}
