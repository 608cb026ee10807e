import { isMap, isNode, isScalar, isSeq, LineCounter, parseDocument } from 'yaml'

/** So often a part of a file may stand for itself elsewhere. */
const maxAliases = 50

/** A YAML file as plain data, which can come from another process. */
export type ReadYaml = {
  readonly faults: readonly { readonly offset: number; readonly says: string }[]
  /** Undefined when it cannot be read. */
  readonly value: unknown
  /** Where each value stands that is not too deep, and whether it is a text of several lines; by its path as JSON. */
  readonly places: readonly (readonly [path: string, offset: number, isBlock: boolean])[]
  /** Where each line begins. */
  readonly lineStarts: readonly number[]
}

/** Values of which the place is kept, and how deep they may be nested. */
const maxPlaces = 5_000
const deepest = 10

export function readYaml(text: string): ReadYaml {
  const lines = new LineCounter()
  const document = parseDocument(text, { lineCounter: lines, prettyErrors: false })
  const lineStarts = lines.lineStarts
  const failed = (offset: number, says: string) => ({
    faults: [{ offset, says }],
    value: undefined,
    places: [],
    lineStarts,
  })
  if (document.errors.length > 0) {
    const [first] = document.errors
    // What a parser that calls itself says of what is too deep for it is no help to anybody.
    if (first?.message.includes('call stack')) return failed(first.pos[0], 'brackets stand too deep in brackets')
    const faults = document.errors.map(({ pos, message }) => ({ offset: pos[0], says: message.split('\n')[0] ?? '' }))
    return { faults, value: undefined, places: [], lineStarts }
  }
  let value: unknown
  try {
    value = document.toJS({ maxAliasCount: maxAliases })
  } catch {
    return failed(0, 'the profile stands for itself in too many places: write out what * refers to')
  }
  const places: [string, number, boolean][] = []
  const note = (node: unknown, path: readonly (string | number)[]): void => {
    if (places.length >= maxPlaces || path.length > deepest || !isNode(node)) return
    const isBlock = isScalar(node) && (node.type ?? '').startsWith('BLOCK')
    if (node.range) places.push([JSON.stringify(path), node.range[0], isBlock])
    if (isSeq(node)) for (const [index, item] of node.items.entries()) note(item, [...path, index])
    if (!isMap(node)) return
    for (const { key, value: inner } of node.items) {
      const name = isScalar(key) ? key.value : key
      if (typeof name === 'string' || typeof name === 'number') note(inner, [...path, name])
    }
  }
  note(document.contents, [])
  return { faults: [], value, places, lineStarts }
}
