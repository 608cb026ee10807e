/** What stands in place of a secret where an address is shown. */
export const hiddenSecret = '•••'

/** An address without its password, and without what a query may hold. */
export function withoutSecrets(text: string): string {
  const url = new URL(text)
  const { password, search } = url
  url.password = ''
  const isDatabase = /^(?:mysql|mariadb|postgres|postgresql):$/.test(url.protocol)
  if (!isDatabase) url.search = ''
  const shown = decoded(url.href)
  const atUser = url.username === '' ? shown : shown.replace('@', `:${hiddenSecret}@`)
  return (password === '' ? shown : atUser) + (isDatabase || search === '' ? '' : `?${hiddenSecret}`)
}

/** The same without its path, which can be all that a receiver asks for; that of a database is its name, and stays. */
export function withoutPath(shown: string): string {
  const [, origin, path] = /^(https?:\/\/[^/?]+)(\/[^?]*)?/.exec(shown) ?? []
  return origin === undefined || path === undefined || path === '/' ? shown : `${origin}/${hiddenSecret}`
}

/** Puts back what {@link withoutSecrets} took out, when the rest is the same. */
export function withSecrets(text: string, kept: string | undefined): string {
  return kept !== undefined && text.includes(hiddenSecret) && text === withoutSecrets(kept) ? kept : text
}

function decoded(text: string): string {
  try {
    return decodeURIComponent(text)
  } catch {
    return text
  }
}
