/**
 * Gathers what many callers want to write and writes it together: while one batch is being written, the next one
 * gathers. Each caller's promise ends when its own part is stored, so nothing is acknowledged early.
 */
export class Batcher<In, Out> {
  readonly #write: (items: In[]) => Promise<Out[]>
  readonly #most: number
  readonly #first: 'at-once' | 'with-its-turn'
  #waiting: { item: In; done: (out: Out) => void; fail: (error: unknown) => void }[] = []
  #writing = false

  /**
   * @param most how many items go together at most
   * @param first whether the first, when nothing is under way, goes at once, since somebody may be alone and wait; or with
   *   whatever comes by the same turn of the event loop, where waves of them come
   */
  constructor(
    write: (items: In[]) => Promise<Out[]>,
    most: number,
    first: 'at-once' | 'with-its-turn' = 'with-its-turn',
  ) {
    this.#first = first
    this.#write = write
    this.#most = most
  }

  add(item: In): Promise<Out> {
    return new Promise((done, fail) => {
      this.#waiting.push({ item, done, fail })
      if (this.#writing) return
      this.#writing = true
      if (this.#first === 'at-once') void this.#drain()
      else setImmediate(() => void this.#drain())
    })
  }

  async #drain(): Promise<void> {
    while (this.#waiting.length > 0) {
      const batch = this.#waiting.splice(0, this.#most)
      try {
        const outs = await this.#write(batch.map(({ item }) => item))
        batch.forEach(({ done }, i) => {
          done(outs[i]!)
        })
      } catch (error) {
        for (const { fail } of batch) fail(error)
      }
    }
    this.#writing = false
  }
}
