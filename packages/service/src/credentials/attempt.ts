/** The libraries tell what they cannot read only by throwing; whatever they say may quote the file. */
export function attempt<T>(read: () => T): T | undefined {
  try {
    return read()
  } catch {
    return undefined
  }
}
