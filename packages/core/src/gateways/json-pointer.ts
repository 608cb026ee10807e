/** What a JSON Pointer (RFC 6901) finds in a value; `undefined` when there is no such place. */
export function jsonAt(value: unknown, pointer: string): unknown {
  let found = value
  for (const step of pointer.split('/').slice(1)) {
    if (typeof found !== 'object' || found === null) return undefined
    const name = step.replaceAll('~1', '/').replaceAll('~0', '~')
    if (!Object.hasOwn(found, name)) return undefined
    found = (found as Record<string, unknown>)[name]
  }
  return found
}

/** The same in a text; `undefined` as well when the text is no JSON. */
export function jsonField(text: string, pointer: string): unknown {
  const read = jsonOf(text)
  return read && jsonAt(read.value, pointer)
}

/** What a text says as JSON; `undefined` when it is none. */
export function jsonOf(text: string): { readonly value: unknown } | undefined {
  try {
    return { value: JSON.parse(text) as unknown }
  } catch {
    return undefined // That it is none is the answer.
  }
}
