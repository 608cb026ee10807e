/** A name that a MessageFormat text wants filled in, with the type that the text says. */
export type NamedPlace = { readonly name: string; readonly type: 'text' | 'number' | 'instant' }

const types: Readonly<Record<string, NamedPlace['type']>> = {
  number: 'number',
  plural: 'number',
  selectordinal: 'number',
  date: 'instant',
  time: 'instant',
}

/** An argument's head: `{name}` whole, or `{name, type` with more behind it. */
const head = /\{\s*([A-Za-z_][\w-]*)\s*(?:(\})|,\s*([a-z]+)\s*(?=[,}]))/y

/** The names in these texts, in their order. Texts that are not whole yet are read as far as they go; faults the service tells. */
export function namesIn(texts: readonly string[]): readonly NamedPlace[] {
  const found = new Map<string, NamedPlace>()
  for (const text of texts)
    for (const place of namesOf(text)) {
      const known = found.get(place.name)
      if (!known || (known.type === 'text' && place.type !== 'text')) found.set(place.name, place)
    }
  return [...found.values()]
}

function* namesOf(quoted: string): Generator<NamedPlace> {
  const text = quoted.replaceAll(/'[{}][^']*'?/g, (part) => ' '.repeat(part.length))
  // Braces open by turns an argument within a text, and a text within an argument, as the cases of a choice are.
  const inside: ('text' | 'argument')[] = ['text']
  for (let at = 0; at < text.length; at++) {
    const here = inside.at(-1)
    if (text[at] === '}') {
      if (inside.length > 1) inside.pop()
    } else if (text[at] === '{' && here === 'argument') inside.push('text')
    else if (text[at] === '{') {
      head.lastIndex = at
      const [whole, name, closed, type] = head.exec(text) ?? []
      if (whole !== undefined && name !== undefined) {
        yield { name, type: types[type ?? ''] ?? 'text' }
        at += whole.length - 1
      }
      if (!closed) inside.push('argument')
    }
  }
}
