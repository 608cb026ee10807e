import type { Row } from '@zbell/core/triggers'

/** A row that somebody pasted as JSON, with the types of its columns: a moment is one, and what is left out is missing. */
export function typedRow(row: Readonly<Record<string, unknown>>, types: Readonly<Record<string, string>>): Row {
  return Object.fromEntries(Object.entries(row).map(([name, value]) => [name, typed(value, types[name])])) as Row
}

function typed(value: unknown, type: string | undefined): unknown {
  if (type === 'timestamp' && typeof value === 'string') {
    const moment = new Date(value)
    return Number.isNaN(moment.getTime()) ? value : moment
  }
  if (type === 'number' && typeof value === 'string' && value.trim() !== '' && Number.isFinite(Number(value)))
    return Number(value)
  return value
}
