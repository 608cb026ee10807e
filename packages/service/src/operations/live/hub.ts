import type { Logger } from 'pino'
import { Poller } from '../../base/index.ts'
import { type Database, databaseTime, type Scope } from '../../database/index.ts'
import { lastDeviceChange } from '../../devices/index.ts'
import type { Signals } from '../../engine/index.ts'
import { changedNotifications } from '../../notifications/index.ts'

export type LiveChange = { readonly is: 'notification'; readonly no: number } | { readonly is: 'devices' }
type Observer = (change: LiveChange) => void

type Feed = {
  readonly scope: Scope
  readonly observers: Set<Observer>
  readonly poller: Poller
  /** The version of each notification that was told last; only what lies in the overlap. */
  told: Map<number, { readonly version: number; readonly changedMs: number }>
  /** By the database's clock; undefined until it was asked. */
  sinceMs: number | undefined
  devicesAt: string
  devicesAgain: boolean
}

const pollMs = 400
/** A transaction can commit after a later one; looking back this far finds its change too. */
const overlapMs = 5_000

/**
 * Tells observers what changed in an app. It looks into the database, so that changes of other processes are seen too,
 * and only for as long as somebody listens; a signal makes it look at once.
 */
export class LiveHub {
  readonly #database: Database
  readonly #log: Logger
  readonly #feeds = new Map<string, Feed>()

  constructor(database: Database, log: Logger, signals: Signals) {
    this.#database = database
    this.#log = log
    signals.on('change', () => {
      for (const { poller } of this.#feeds.values()) poller.wake()
    })
  }

  /** @returns what ends the listening */
  listen(scope: Scope, observer: Observer): () => void {
    const name = `${scope.app.no}:${scope.environment}`
    const feed = this.#feeds.get(name) ?? this.#open(name, scope)
    feed.observers.add(observer)
    return () => {
      feed.observers.delete(observer)
      if (feed.observers.size > 0) return
      this.#feeds.delete(name)
      void feed.poller.close()
    }
  }

  async close(): Promise<void> {
    const feeds = [...this.#feeds.values()]
    this.#feeds.clear()
    await Promise.all(feeds.map(({ poller }) => poller.close()))
  }

  #open(name: string, scope: Scope): Feed {
    const feed: Feed = {
      scope,
      observers: new Set(),
      poller: new Poller({ name: 'live updates', everyMs: pollMs, log: this.#log, poll: () => this.#poll(feed) }),
      told: new Map(),
      sinceMs: undefined,
      devicesAt: '',
      devicesAgain: false,
    }
    this.#feeds.set(name, feed)
    feed.poller.start()
    return feed
  }

  async #poll(feed: Feed): Promise<void> {
    feed.sinceMs ??= (await databaseTime(this.#database)).getTime()
    let newestMs = feed.sinceMs
    for await (const { no, version, changedAt } of changedNotifications(
      this.#database,
      feed.scope,
      new Date(feed.sinceMs - overlapMs),
    )) {
      newestMs = Math.max(newestMs, changedAt.getTime())
      if (feed.told.get(no)?.version === version) continue
      feed.told.set(no, { version, changedMs: changedAt.getTime() })
      for (const observer of feed.observers) observer({ is: 'notification', no })
    }
    feed.sinceMs = newestMs
    for (const [no, { changedMs }] of feed.told) if (changedMs < newestMs - overlapMs) feed.told.delete(no)
    const at = (await lastDeviceChange(this.#database, feed.scope))?.toISOString() ?? ''
    // The first look tells too: something may have changed between the listener's own reading and now.
    // Told once more at the next look: another change may fall into the same millisecond, after this one was read.
    const isNew = (at || '-') !== feed.devicesAt
    if (isNew || feed.devicesAgain) for (const observer of feed.observers) observer({ is: 'devices' })
    feed.devicesAgain = isNew
    feed.devicesAt = at || '-'
  }
}
