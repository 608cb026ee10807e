/** What a condition is made of, whichever tree it stands in. */
export type ClauseShape<T> = {
  /** Whether its parts are put together by and, or by or. */
  readonly connective: (part: T) => 'and' | 'or' | undefined
  /** What a not stands before. */
  readonly negated: (part: T) => T | undefined
  /** The parts of a connective; what else can be opened, such as a segment's rule. */
  readonly inner: (part: T) => readonly T[]
}

/** A clause as it stands, with its sign; and what it asks, without. */
export type Clause<T> = { readonly part: T; readonly asks: T; readonly depth: number }

/** So many clauses of a condition are told: a segment that is named in many places is opened in each. */
export const maxClauses = 200

/**
 * The clauses of a condition in the order in which they stand, each with its sign, and what is nested behind it, one deeper.
 * @returns {@link maxClauses} at most
 */
export function clausesOf<T>(condition: T, shape: ClauseShape<T>): Clause<T>[] {
  const clauses: Clause<T>[] = []
  const joined = (part: T, how: 'and' | 'or'): readonly T[] =>
    shape.connective(part) === how ? shape.inner(part).flatMap((one) => joined(one, how)) : [part]
  const inside = (part: T): readonly T[] => {
    const how = shape.connective(part)
    if (how) return joined(part, how)
    const inner = shape.inner(part)
    const [only] = inner
    return inner.length === 1 && only && shape.connective(only) ? inside(only) : inner
  }
  const add = (part: T, depth: number) => {
    if (clauses.length >= maxClauses) return
    let asks = part
    for (let bare = shape.negated(asks); bare !== undefined; bare = shape.negated(asks)) asks = bare
    clauses.push({ part, asks, depth })
    for (const one of inside(asks)) add(one, depth + 1)
  }
  for (const one of shape.connective(condition) ? inside(condition) : [condition]) add(one, 0)
  return clauses
}
