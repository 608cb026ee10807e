import { X509Certificate } from 'node:crypto'
import { expressionFault, type GatewayProfile, gatewayProfile, maxProfileCharacters } from '@zbell/core'
import { type ReadYaml, readYaml } from '../evaluation/index.ts'

/** One fault of a profile. Lines and columns count from 1. */
export type ProfileFault = { readonly line: number; readonly column: number; readonly says: string }
export type Linted = { readonly profile: GatewayProfile | undefined; readonly faults: readonly ProfileFault[] }

/** So many faults are placed: to place one costs a look through the file. */
const maxFaults = 50

type Path = readonly PropertyKey[]
/** Where it is, and how far into the text that stands there. */
type Unplaced = { readonly path: Path; readonly says: string; readonly position?: number }

/** Reads what somebody trusted wrote. Names its faults, each with its place and what was expected; the first fifty. */
export const lintProfile = (text: string): Linted => lintRead(text, readYaml(text))

/** The same of what was read already. */
export function lintRead(text: string, read: ReadYaml): Linted {
  const places = new ProfilePlaces(read)
  if (read.faults.length > 0)
    return {
      profile: undefined,
      faults: read.faults.slice(0, maxFaults).map(({ offset, says }) => ({ ...places.at(offset), says })),
    }
  const { value } = read
  const checked = gatewayProfile.safeParse(value)
  const unplaced = checked.success ? withinExpressions(checked.data) : issuesOf(checked.error.issues)
  const faults = unplaced.slice(0, maxFaults).map(({ path, says, position }) => ({
    ...(position === undefined ? places.of(path) : places.within(text, path, String(at(value, path)), position)),
    says,
  }))
  faults.sort((a, b) => a.line - b.line || a.column - b.column)
  return { profile: checked.success && faults.length === 0 ? checked.data : undefined, faults }
}

/** What a profile has that cannot be read at all. */
export const tooLong = (text: string): Linted | undefined =>
  text.length > maxProfileCharacters
    ? atTop(`the profile has more than ${maxProfileCharacters.toLocaleString('en')} characters`)
    : undefined

export const atTop = (says: string): Linted => ({ profile: undefined, faults: [{ line: 1, column: 1, says }] })

type Issue = {
  readonly code: string
  readonly path: Path
  readonly message: string
  readonly keys?: readonly string[]
  readonly errors?: readonly (readonly Issue[])[]
}

/** What a schema says in its own way, in ours. */
function issuesOf(issues: readonly unknown[]): Unplaced[] {
  return (issues as readonly Issue[]).flatMap((issue): Unplaced[] => {
    const { path, code, keys = [], message } = issue
    // A name that does not belong here stands in its parent; point at the name itself.
    if (code === 'unrecognized_keys')
      return keys.map((key) => ({ path: [...path, key], says: `${[...path, key].join('.')} is not known here` }))
    const deeper = code === 'invalid_union' ? nearestOf(issue) : undefined
    if (deeper) return issuesOf(deeper.map((one) => ({ ...one, path: [...path, ...one.path] })))
    return [{ path, says: `${path.join('.') || 'the profile'}: ${message}` }]
  })
}

/** Of the forms that something may have, the one that it was nearest to: where the fault lies deepest. */
function nearestOf({ errors = [] }: Issue): readonly Issue[] | undefined {
  const depth = (issues: readonly Issue[]) => Math.max(...issues.map((one) => one.path.length + (one.keys ? 1 : 0)))
  const [nearest] = errors.filter((one) => one.length > 0).sort((a, b) => depth(b) - depth(a))
  return nearest && depth(nearest) > 0 ? nearest : undefined
}

function withinExpressions({ request, answers, ca }: GatewayProfile): Unplaced[] {
  const expressions: [Path, string][] = [
    [['request', 'headers'], request.headers],
    [['request', 'body'], request.body],
    ...answers.flatMap(({ when }, row): [Path, string][] =>
      when === undefined ? [] : [[['answers', row, 'when'], when]],
    ),
  ]
  const faults = expressions.flatMap(([path, text]): Unplaced[] => {
    const fault = expressionFault(text)
    return fault ? [{ path, says: `${path.join('.')}: ${fault.says}`, position: fault.position }] : []
  })
  return ca !== undefined && !isReadable(ca)
    ? [...faults, { path: ['ca'], says: 'ca: holds a certificate that cannot be read' }]
    : faults
}

function isReadable(pem: string): boolean {
  try {
    return pem
      .split(/(?<=-----END CERTIFICATE-----)/)
      .filter((one) => one.includes('-----BEGIN CERTIFICATE-----'))
      .every((one) => new X509Certificate(one).raw.length > 0)
  } catch {
    return false // Whatever OpenSSL says of it, it is none.
  }
}

function at(value: unknown, path: Path): unknown {
  return path.reduce<unknown>((inner, name) => (inner as Record<PropertyKey, unknown> | undefined)?.[name], value)
}

/** Where things stand in a file. Lines and columns count from 1. */
class ProfilePlaces {
  readonly #byPath: ReadonlyMap<string, { readonly offset: number; readonly isBlock: boolean }>
  readonly #lineStarts: readonly number[]

  constructor({ places, lineStarts }: ReadYaml) {
    this.#byPath = new Map(places.map(([path, offset, isBlock]) => [path, { offset, isBlock }]))
    this.#lineStarts = lineStarts
  }

  at(offset: number): { line: number; column: number } {
    let [low, high] = [0, this.#lineStarts.length]
    while (low + 1 < high) {
      const middle = (low + high) >> 1
      if ((this.#lineStarts[middle] ?? 0) <= offset) low = middle
      else high = middle
    }
    return { line: low + 1, column: Math.max(1, offset - (this.#lineStarts[low] ?? 0) + 1) }
  }

  /** Where the value at a path stands, or the nearest of its parents that is there. */
  of(path: Path): { line: number; column: number } {
    for (let depth = path.length; depth >= 0; depth--) {
      const place = this.#byPath.get(JSON.stringify(path.slice(0, depth)))
      if (place) return this.at(place.offset)
    }
    return { line: 1, column: 1 }
  }

  /** A place in a text of several lines: such a text begins on the line below its mark. */
  within(source: string, path: Path, text: string, position: number): { line: number; column: number } {
    const start = this.of(path)
    if (!this.#byPath.get(JSON.stringify(path))?.isBlock) return { line: start.line, column: start.column + position }
    const before = text.slice(0, position).split('\n')
    const line = start.line + before.length
    // In the text the indentation of the block is gone; in the file it stands before every line.
    const own = text.split('\n')[before.length - 1] ?? ''
    const indent = Math.max(
      0,
      (source.split('\n')[line - 1] ?? '').indexOf(own.trimStart()) - (own.length - own.trimStart().length),
    )
    return { line, column: indent + (before.at(-1)?.length ?? 0) + 1 }
  }
}
