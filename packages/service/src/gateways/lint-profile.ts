import { X509Certificate } from 'node:crypto'
import { expressionFault, type GatewayProfile, gatewayProfile, mostProfileCharacters } from '@zbell/core'
import { type Document, isNode, isScalar, LineCounter, parseDocument } from 'yaml'

/** One fault of a profile. Lines and columns count from 1. */
export type ProfileFault = { readonly line: number; readonly column: number; readonly says: string }
export type Linted = { readonly profile: GatewayProfile | undefined; readonly faults: readonly ProfileFault[] }

/** So many faults are placed: to place one costs a look through the file. */
const mostFaults = 50
/** So often a part of a file may stand for itself elsewhere. */
const mostAliases = 50

type Path = readonly PropertyKey[]
/** Where it is, and how far into the text that stands there. */
type Unplaced = { readonly path: Path; readonly says: string; readonly position?: number }

/** Reads a gateway profile and names its faults, each with its place and what was expected; the first fifty. */
export function lintProfile(text: string): Linted {
  if (text.length > mostProfileCharacters)
    return atTop(`the profile has more than ${mostProfileCharacters.toLocaleString('en')} characters`)
  const lines = new LineCounter()
  const document = parseDocument(text, { lineCounter: lines, prettyErrors: false })
  if (document.errors.length > 0) {
    const faults = document.errors.slice(0, mostFaults).map((error) => ({
      ...placeAt(lines, error.pos[0]),
      says: error.message.split('\n')[0] ?? '',
    }))
    return { profile: undefined, faults }
  }
  let value: unknown
  try {
    value = document.toJS({ maxAliasCount: mostAliases })
  } catch {
    return atTop('the profile stands for itself in too many places: write out what * refers to')
  }
  const read = gatewayProfile.safeParse(value)
  const unplaced = read.success ? withinExpressions(read.data) : issuesOf(read.error.issues)
  const faults = unplaced.slice(0, mostFaults).map(({ path, says, position }) => ({
    ...(position === undefined
      ? placeAt(lines, offsetOf(document, path))
      : withinBlock(text, lines, document, path, String(at(value, path)), position)),
    says,
  }))
  faults.sort((a, b) => a.line - b.line || a.column - b.column)
  return { profile: read.success && faults.length === 0 ? read.data : undefined, faults }
}

const atTop = (says: string): Linted => ({ profile: undefined, faults: [{ line: 1, column: 1, says }] })

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

function placeAt(lines: LineCounter, offset: number): { line: number; column: number } {
  const { line, col } = lines.linePos(offset)
  return { line: Math.max(line, 1), column: Math.max(col, 1) }
}

/** Where the value at a path stands, or the nearest of its parents that is there. */
function offsetOf(document: Document, path: Path): number {
  for (let depth = path.length; depth >= 0; depth--) {
    const node = document.getIn(path.slice(0, depth), true)
    if (isNode(node) && node.range) return node.range[0]
  }
  return 0
}

/** A place in a text of several lines: such a text begins on the line below its mark. */
function withinBlock(
  source: string,
  lines: LineCounter,
  document: Document,
  path: Path,
  text: string,
  position: number,
) {
  const node = document.getIn(path, true)
  const start = placeAt(lines, offsetOf(document, path))
  if (!isScalar(node) || !node.type?.startsWith('BLOCK')) return { line: start.line, column: start.column + position }
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
