import { factValue } from './facts.ts'
import { jsonAt } from './json-pointer.ts'
import type { GatewayProfile } from './profile.ts'

/** What a key file can say beside the key, by the names of a credential's own fields. */
export const keyFileFields = ['keyId', 'issuer', 'tokenAddress', 'scope'] as const
export type KeyFileField = (typeof keyFileFields)[number]

export type KeyFileFacts = Partial<Readonly<Record<KeyFileField, string>>> & {
  readonly facts: Readonly<Record<string, string>>
}

/** A place in a file, and what stands there. */
export type PlacedText = { readonly pointer: string; readonly text: string }

/** More than anybody's key file holds; what lies beyond is not looked at. */
const maxPlaces = 2_000
const deepest = 20

/** All texts in a file, each with its place, in the order in which they stand there. */
export function textsIn(file: unknown): PlacedText[] {
  const found: PlacedText[] = []
  let places = 0
  const walk = (value: unknown, pointer: string, depth: number) => {
    if (++places > maxPlaces) return
    if (typeof value === 'string') found.push({ pointer, text: value })
    if (typeof value !== 'object' || value === null || depth === deepest) return
    for (const [name, inner] of Object.entries(value)) {
      if (places > maxPlaces) return
      walk(inner, `${pointer}/${name.replaceAll('~', '~0').replaceAll('/', '~1')}`, depth + 1)
    }
  }
  walk(file, '', 0)
  return found
}

/**
 * Reads what stands beside the key, where the profile says. A place that is empty is passed over: it can be given by hand.
 * @returns what is wrong with a place, by the name of the field or `fact.NAME`
 */
export function readKeyFile(
  file: unknown,
  map: NonNullable<GatewayProfile['keyFile']>,
): { readonly found: KeyFileFacts; readonly faults: ReadonlyMap<string, string> } {
  const faults = new Map<string, string>()
  const read = (name: string, pointer: string | undefined): Record<string, string> => {
    const value = pointer === undefined ? undefined : jsonAt(file, pointer)
    if (value === undefined || value === null) return {}
    const text = typeof value === 'number' ? String(value) : value
    if (!factValue.safeParse(text).success) {
      faults.set(name, `what the file has at ${pointer} is no name or number of at most 300 characters`)
      return {}
    }
    return { [name]: text as string }
  }
  const facts = Object.entries(map.facts ?? {}).map(([name, pointer]) => {
    const value = read(`fact.${name}`, pointer)[`fact.${name}`]
    return value === undefined ? {} : { [name]: value }
  })
  const fields = keyFileFields.map((name) => read(name, map[name]))
  return { found: Object.assign({ facts: Object.assign({}, ...facts) }, ...fields) as KeyFileFacts, faults }
}

const looks: Readonly<Record<KeyFileField, (last: string, text: string) => boolean>> = {
  keyId: (last) => /key[-_ ]?(id|no|nr|number|name)$|^kid$/i.test(last),
  issuer: (last, text) => /^[^\s@]+@[^\s@]+$/.test(text) || /^(iss(uer)?|e?[-_]?mail|account)$/i.test(last),
  tokenAddress: (last, text) => /^https:\/\//.test(text) && /token|grant/i.test(`${last} ${text}`),
  scope: (last) => /^scopes?$/i.test(last),
}

/**
 * What in a file looks like each of a credential's fields, for whoever has no profile yet: by its name and its form. What
 * could be a secret is never among it.
 */
export function guessKeyFile(file: unknown): Partial<Record<KeyFileField, string>> {
  const texts = textsIn(file).filter(({ text }) => text.length <= 200 && factValue.safeParse(text).success)
  return Object.assign(
    {},
    ...keyFileFields.map((field) => {
      const found = texts.find(({ pointer, text }) => looks[field](pointer.split('/').at(-1) ?? '', text))
      return found && !couldBeSecret(found.text) ? { [field]: found.text } : {}
    }),
  ) as Partial<Record<KeyFileField, string>>
}

/** Long and without a dot, a space or an @: names are not like that, keys and passwords are. */
const couldBeSecret = (text: string): boolean => /^[A-Za-z0-9+/=_-]{41,}$/.test(text)
