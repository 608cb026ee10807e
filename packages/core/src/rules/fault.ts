/** What is wrong with a rule, and where: line and column from 1, a column is a code point. */
export type RuleFault = { readonly line: number; readonly column: number; readonly says: string }

/** A rule that cannot be used. */
export class RuleRefused extends Error {
  override readonly name = 'RuleRefused'
  readonly faults: readonly RuleFault[]
  /** The segment whose rule it is, where it is not the one that was asked about. */
  readonly segment: string | undefined

  constructor(faults: readonly RuleFault[], segment?: string) {
    super(faults.map(({ line, column, says }) => `line ${line}, column ${column}: ${says}`).join('; '))
    this.faults = faults
    this.segment = segment
  }
}

/** @param offset in UTF-16 units, from 0 */
export function placeIn(text: string, offset: number): { readonly line: number; readonly column: number } {
  const lines = text.slice(0, offset).split('\n')
  return { line: lines.length, column: [...(lines.at(-1) ?? '')].length + 1 }
}

/** How many of its letters may be wrong before a name is no longer likely to be another one. */
const likely = (name: string): number => Math.max(1, Math.floor(name.length / 3))

/** The known name that is most like one, if any is. */
export function nearestOf(name: string, known: readonly string[]): string | undefined {
  let best: string | undefined
  let least = likely(name) + 1
  for (const one of known) {
    const distance = editDistance(name.toLowerCase(), one.toLowerCase(), least)
    if (distance < least) [best, least] = [one, distance]
  }
  return best
}

/** Levenshtein’s: letters put in, left out or changed. @param enough from so many on nobody asks */
function editDistance(a: string, b: string, enough: number): number {
  if (Math.abs(a.length - b.length) >= enough) return enough
  let row = Array.from({ length: b.length + 1 }, (_, i) => i)
  for (let i = 1; i <= a.length; i++) {
    const next = [i]
    for (let j = 1; j <= b.length; j++)
      next.push(Math.min(row[j]! + 1, next[j - 1]! + 1, row[j - 1]! + (a[i - 1] === b[j - 1] ? 0 : 1)))
    row = next
  }
  return row[b.length]!
}

/** What somebody who wrote a name that is not known may have meant. */
export function orNearest(name: string, known: readonly string[]): string {
  const nearest = nearestOf(name, known)
  return nearest === undefined ? '' : `; the nearest is ${nearest}`
}
