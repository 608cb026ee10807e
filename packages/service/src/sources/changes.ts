import { loggedRow, type SourceDefinition } from '@zbell/core/triggers'

/** A row as it waits: JSON has no moments, so it says which of its values are. */
export type KeptFound = ChangedRow & { readonly moments: readonly string[] }

/** What a source found, as its triggers get it. */
export type ChangedRow = {
  readonly key: string
  readonly row: Readonly<Record<string, unknown>>
  readonly before: Readonly<Record<string, unknown>>
  readonly gone: boolean
}

export const queuedChange = (found: ChangedRow): KeptFound => ({
  ...found,
  moments: [
    ...new Set(
      [found.row, found.before].flatMap((row) => Object.keys(row).filter((name) => row[name] instanceof Date)),
    ),
  ],
})

/** As it was found. */
export function foundOf({ moments, ...found }: KeptFound): ChangedRow {
  const named = new Set(moments)
  const revived = (row: ChangedRow['row']) =>
    Object.fromEntries(
      Object.entries(row).map(([name, value]) => [
        name,
        named.has(name) && typeof value === 'string' ? new Date(value) : value,
      ]),
    )
  return { ...found, row: revived(found.row), before: revived(found.before) }
}

/** What the log keeps of what a source found: what is watched, without what the source hides. */
export function loggedFound(source: SourceDefinition, { row, before, gone }: ChangedRow): Record<string, unknown> {
  const isKept = source.kind === 'table' || source.kind === 'poll'
  const of: { readonly watch?: readonly string[] | undefined; readonly mask?: readonly string[] | undefined } = isKept
    ? source
    : {}
  const key = isKept ? source.key : []
  return {
    row: loggedRow(row, of, key),
    ...(Object.keys(before).length > 0 ? { before: loggedRow(before, of, key) } : {}),
    ...(gone ? { gone } : {}),
  }
}
