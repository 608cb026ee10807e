import { expressionFault, type GatewayProfile, gatewayProfile } from '@zbell/core'
import { type Document, isNode, isScalar, LineCounter, parseDocument } from 'yaml'

/** One fault of a profile. Lines and columns count from 1. */
export type ProfileFault = { readonly line: number; readonly column: number; readonly says: string }
export type Linted = { readonly profile: GatewayProfile | undefined; readonly faults: readonly ProfileFault[] }

/** Reads a gateway profile and names every fault with its place and what was expected. */
export function lintProfile(text: string): Linted {
  const lines = new LineCounter()
  const document = parseDocument(text, { lineCounter: lines, prettyErrors: false })
  if (document.errors.length > 0) {
    const faults = document.errors.map((error) => ({
      ...placeAt(lines, error.pos[0]),
      says: error.message.split('\n')[0] ?? '',
    }))
    return { profile: undefined, faults }
  }
  const read = gatewayProfile.safeParse(document.toJS())
  const place = (path: readonly PropertyKey[]) => placeAt(lines, offsetOf(document, path))
  if (!read.success) {
    const faults = read.error.issues.flatMap((issue) => {
      // A name that does not belong here stands in its parent; point at the name itself.
      if (issue.code === 'unrecognized_keys') {
        return issue.keys.map((key) => ({
          ...place([...issue.path, key]),
          says: `${[...issue.path, key].join('.')} is not known here`,
        }))
      }
      return [{ ...place(issue.path), says: `${issue.path.join('.') || 'the profile'}: ${issue.message}` }]
    })
    return { profile: undefined, faults }
  }
  const faults = (['headers', 'body'] as const).flatMap((name) => {
    const fault = expressionFault(read.data.request[name])
    if (!fault) return []
    return [
      {
        ...withinBlock(text, lines, document, ['request', name], read.data.request[name], fault.position),
        says: `request.${name}: ${fault.says}`,
      },
    ]
  })
  return { profile: faults.length === 0 ? read.data : undefined, faults }
}

function placeAt(lines: LineCounter, offset: number): { line: number; column: number } {
  const { line, col } = lines.linePos(offset)
  return { line: Math.max(line, 1), column: Math.max(col, 1) }
}

/** Where the value at a path stands, or the nearest of its parents that is there. */
function offsetOf(document: Document, path: readonly PropertyKey[]): number {
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
  path: readonly string[],
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
