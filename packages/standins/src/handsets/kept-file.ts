import { existsSync, readFileSync, renameSync, writeFileSync } from 'node:fs'

const writeAfterMs = 100
/** Writing may take this part of the time at most, however much there is to write. */
const writingPart = 1 / 20

/** A JSON file that follows what it is told, a moment later and always whole: it is written beside and moved into place. */
export class KeptFile<T> {
  readonly #file: string
  readonly #value: () => T
  #timer: NodeJS.Timeout | undefined
  #lastTookMs = 0
  #closed = false

  constructor(file: string, value: () => T) {
    this.#file = file
    this.#value = value
  }

  static read<T>(file: string): T | undefined {
    return existsSync(file) ? (JSON.parse(readFileSync(file, 'utf8')) as T) : undefined
  }

  changed(): void {
    if (this.#closed) return
    this.#timer ??= setTimeout(() => this.flush(), Math.max(writeAfterMs, this.#lastTookMs / writingPart))
  }

  /** Writes for the last time; what changes afterwards belongs to nobody any more. */
  close(): void {
    this.flush()
    this.#closed = true
  }

  flush(): void {
    clearTimeout(this.#timer)
    this.#timer = undefined
    const startMs = performance.now()
    writeFileSync(`${this.#file}.new`, JSON.stringify(this.#value(), null, 1), { mode: 0o600 })
    renameSync(`${this.#file}.new`, this.#file)
    this.#lastTookMs = performance.now() - startMs
  }
}
