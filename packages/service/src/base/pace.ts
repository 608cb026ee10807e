/** How long the past reaches that counts. */
const windowMs = 60_000
/** With fewer devices than this nothing can be said. */
const fewest = 500

/** How fast deliveries have come to their outcomes of late, while there were any to send. */
export class Pace {
  #stored: { readonly atMs: number; readonly devices: number }[] = []

  note(devices: number, atMs: number): void {
    if (devices === 0) return
    this.#stored.push({ atMs, devices })
    if (this.#stored.length > 2_000) this.#stored = this.#stored.filter((one) => one.atMs > atMs - windowMs)
  }

  /** @returns `undefined` when too little was sent to say */
  devicesPerSecond(nowMs: number = Date.now()): number | undefined {
    const late = this.#stored.filter(({ atMs }) => atMs > nowMs - windowMs)
    const [first, ...rest] = late
    const last = rest.at(-1)
    const devices = rest.reduce((sum, one) => sum + one.devices, 0)
    if (!first || !last || devices < fewest || last.atMs === first.atMs) return undefined
    return (devices / (last.atMs - first.atMs)) * 1_000
  }
}
