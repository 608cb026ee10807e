import stringWidth from 'string-width'
import { pad } from './text.ts'

/** An aligned table without lines; headings stand dim above it. */
export function table(
  headings: readonly string[],
  rows: readonly (readonly string[])[],
  dim: (text: string) => string,
): string {
  const all = [headings, ...rows]
  const widths = headings.map((_, column) => Math.max(...all.map((row) => stringWidth(row[column] ?? ''))))
  const line = (row: readonly string[]) =>
    row.map((cell, column) => (column === row.length - 1 ? cell : pad(cell, widths[column] ?? 0))).join('  ')
  return `${[dim(line(headings)), ...rows.map(line)].join('\n')}\n`
}
