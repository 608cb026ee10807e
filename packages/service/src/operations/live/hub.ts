import type { Logger } from 'pino'
import { type Database, DatabaseUnavailable, databaseTime, type Scope } from '../../database/index.ts'
import { lastDeviceChange } from '../../devices/index.ts'
import { changedNotifications } from '../../notifications/index.ts'

export type LiveChange = { readonly is: 'notification'; readonly no: number } | { readonly is: 'devices' }
type Listener = (change: LiveChange) => void

type Room = {
  readonly scope: Scope
  readonly listeners: Set<Listener>
  /** The version of each notification that was told last; only what lies in the overlap. */
  told: Map<number, { readonly version: number; readonly changedMs: number }>
  /** By the database's clock; undefined until it was asked. */
  sinceMs: number | undefined
  devicesAt: string
  devicesAgain: boolean
  polling: boolean
  again: boolean
}

const pollMs = 400
/** A transaction can commit after a later one; looking back this far finds its change too. */
const overlapMs = 5_000

/**
 * Tells listeners what changed in an app. It looks into the database, so that changes of other processes are seen too,
 * and only for as long as somebody listens; a nudge makes it look at once.
 */
export class LiveHub {
  readonly #database: Database
  readonly #log: Logger
  readonly #rooms = new Map<string, Room>()
  readonly #timer: NodeJS.Timeout

  constructor(database: Database, log: Logger) {
    this.#database = database
    this.#log = log
    this.#timer = setInterval(() => this.nudge(), pollMs)
    this.#timer.unref()
  }

  /** @returns what ends the listening */
  listen(scope: Scope, listener: Listener): () => void {
    const name = `${scope.app.no}:${scope.environment}`
    const room = this.#rooms.get(name) ?? this.#open(name, scope)
    room.listeners.add(listener)
    return () => {
      room.listeners.delete(listener)
      if (room.listeners.size === 0) this.#rooms.delete(name)
    }
  }

  nudge(): void {
    for (const room of this.#rooms.values()) {
      this.#poll(room).catch((error: unknown) => {
        if (!(error instanceof DatabaseUnavailable)) this.#log.error({ err: error }, 'live updates failed')
      })
    }
  }

  close(): void {
    clearInterval(this.#timer)
    this.#rooms.clear()
  }

  #open(name: string, scope: Scope): Room {
    const room: Room = {
      scope,
      listeners: new Set(),
      told: new Map(),
      sinceMs: undefined,
      devicesAt: '',
      devicesAgain: false,
      polling: false,
      again: false,
    }
    this.#rooms.set(name, room)
    return room
  }

  async #poll(room: Room): Promise<void> {
    if (room.polling) {
      room.again = true
      return
    }
    room.polling = true
    try {
      do {
        room.again = false
        await this.#look(room)
      } while (room.again)
    } finally {
      room.polling = false
    }
  }

  async #look(room: Room): Promise<void> {
    room.sinceMs ??= (await databaseTime(this.#database)).getTime()
    let newestMs = room.sinceMs
    for await (const { no, version, changedAt } of changedNotifications(
      this.#database,
      room.scope,
      new Date(room.sinceMs - overlapMs),
    )) {
      newestMs = Math.max(newestMs, changedAt.getTime())
      if (room.told.get(no)?.version === version) continue
      room.told.set(no, { version, changedMs: changedAt.getTime() })
      for (const listener of room.listeners) listener({ is: 'notification', no })
    }
    room.sinceMs = newestMs
    for (const [no, { changedMs }] of room.told) if (changedMs < newestMs - overlapMs) room.told.delete(no)
    const at = (await lastDeviceChange(this.#database, room.scope))?.toISOString() ?? ''
    // The first look tells too: something may have changed between the listener's own reading and now.
    // Told once more at the next look: another change may fall into the same millisecond, after this one was read.
    const isNew = (at || '-') !== room.devicesAt
    if (isNew || room.devicesAgain) for (const listener of room.listeners) listener({ is: 'devices' })
    room.devicesAgain = isNew
    room.devicesAt = at || '-'
  }
}
