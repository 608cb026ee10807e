import { instantOf, type LocalTime, localFields } from '../timing/local-time.ts'

/** The zone in which a day begins first, and the one in which it ends last. */
export const firstZone = 'Pacific/Kiritimati'
export const lastZone = 'Etc/GMT+12'

/** What becomes of those for whom the hour is over already when something is sent. */
export type Past = 'skip' | 'now' | 'tomorrow'

/** An hour by the clock of each reader. */
export type ReadersHour = { readonly local: LocalTime; readonly past: Past; readonly sentMs: number }

const dayMs = 86_400_000

/** When it rings in a zone; undefined where it does not. */
export function readerDue({ local, past, sentMs }: ReadersHour, zone: string): number | undefined {
  const ms = instantOf(local, zone)
  if (ms >= sentMs) return ms
  switch (past) {
    case 'skip':
      return undefined
    case 'now':
      return sentMs
    case 'tomorrow':
      return instantOf(dayAfter(local), zone)
    default:
      return past satisfies never
  }
}

function dayAfter(local: LocalTime): LocalTime {
  const { year, month, day, hour, minute, second } = localFields(local)!
  return new Date(Date.UTC(year, month - 1, day, hour, minute, second) + dayMs).toISOString().slice(0, 19)
}

/** After this it rings nowhere any more. */
export const readersEnd = ({ local, past }: ReadersHour): number =>
  instantOf(past === 'tomorrow' ? dayAfter(local) : local, lastZone)

/** So long after its hour a zone is looked at again, for those who came into it on a journey. */
const lookBackMs = 3_900_000
/** A zone that comes up between two turns is found within so long. */
const lookAgainMs = 3_600_000

/** Whose turn it is, and when it is somebody’s next. */
export type ReadersTurn = {
  /** Zones, each with the moment at which it was its turn. */
  readonly due: readonly { readonly zone: string; readonly atMs: number }[]
  /** Undefined: nobody’s turn comes any more. */
  readonly nextMs: number | undefined
}

/**
 * Whose turn it is among the zones of an app’s devices.
 * @param graceMs so late it is still rung when nothing ran at its time
 */
export function readersTurn(
  hour: ReadersHour,
  zones: readonly string[],
  { nowMs, graceMs }: { readonly nowMs: number; readonly graceMs: number },
): ReadersTurn {
  const turns = zones.flatMap((zone) => {
    const atMs = readerDue(hour, zone)
    return atMs === undefined ? [] : [{ zone, atMs }]
  })
  const endMs = readersEnd(hour)
  const next = Math.min(nowMs + lookAgainMs, endMs, ...turns.flatMap(({ atMs }) => (atMs > nowMs ? [atMs] : [])))
  return {
    due: turns.filter(({ atMs }) => atMs <= nowMs && atMs >= nowMs - Math.max(graceMs, lookBackMs)),
    nextMs: nowMs >= endMs ? undefined : Math.max(next, nowMs + 1),
  }
}
