import type { Verification } from '../webhooks/incoming.ts'

/** What triggers read, as somebody writes it; addresses, headers and secrets are kept elsewhere, sealed. */
export type TableSource = {
  readonly kind: 'table'
  /** A table or a view, with its schema before a dot if it needs one; or a statement in its place. */
  readonly table?: string | undefined
  readonly select?: string | undefined
  readonly by: 'cursor' | 'comparison'
  /** Columns that name a row. */
  readonly key: readonly string[]
  /** A column that only grows. */
  readonly cursor?: string | undefined
  /** How late a transaction may commit. */
  readonly overlapSeconds?: number | undefined
  /** Columns whose changes count, and that the log shows; all when left out. */
  readonly watch?: readonly string[] | undefined
  /** Columns that the log does not show. */
  readonly mask?: readonly string[] | undefined
  readonly everySeconds?: number | undefined
  /** Certificates to trust for it, as PEM. */
  readonly ca?: string | undefined
}

export type PollSource = {
  readonly kind: 'poll'
  /** JSONata that picks the rows of an answer. */
  readonly rows: string
  readonly key: readonly string[]
  readonly watch?: readonly string[] | undefined
  readonly mask?: readonly string[] | undefined
  readonly everySeconds?: number | undefined
  readonly ca?: string | undefined
}

export type SegmentSource = {
  readonly kind: 'segment'
  readonly segment: string
  /** Whether what devices report and set counts as well. */
  readonly devices?: boolean | undefined
  readonly everySeconds?: number | undefined
}

export type IncomingSource = {
  readonly kind: 'incoming'
  readonly verify: Verification
  /** JSONata that makes occurrences of a body. */
  readonly occurrences: string
}

export type SourceDefinition = TableSource | PollSource | SegmentSource | IncomingSource

/** How often a source is polled when it does not say, in seconds. */
export const pollEvery = Object.freeze({ table: 1, poll: 60, segment: 300 })
export const overlapDefault = 30

export const sourceLimits = Object.freeze({
  keyColumns: 8,
  columns: 100,
  everySeconds: 86_400,
  overlapSeconds: 3_600,
  bodyBytes: 262_144,
  answerBytes: 8_388_608,
})

/** What of a source makes that which it looks like: after a change of it the first poll rings nobody. */
export function watchedBy(definition: SourceDefinition): unknown {
  switch (definition.kind) {
    case 'table': {
      const { table, select, by, key, cursor, watch } = definition
      return ['table', table, select, by, key, cursor, watch]
    }
    case 'poll': {
      const { rows, key, watch } = definition
      return ['poll', rows, key, watch]
    }
    case 'segment':
      return ['segment', definition.segment, ...(definition.devices ? ['devices'] : [])]
    case 'incoming':
      return ['incoming']
    default:
      return definition satisfies never
  }
}

const hidden = '•••'

/** A row as the log shows it: what is watched, without what the source hides. */
export function loggedRow(
  row: Readonly<Record<string, unknown>>,
  {
    watch,
    mask = [],
  }: { readonly watch?: readonly string[] | undefined; readonly mask?: readonly string[] | undefined },
  key: readonly string[] = [],
): Record<string, unknown> {
  return Object.fromEntries(
    Object.entries(row)
      .filter(([name]) => watch === undefined || watch.includes(name) || key.includes(name))
      .map(([name, value]) => [name, mask.includes(name) && value !== null ? hidden : value]),
  )
}
