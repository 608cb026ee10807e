import { MalformedText, MessageText, valueFault } from './message-format.ts'
import { textsOf } from './render.ts'
import type { Filling, Value, Values, Writing } from './writing.ts'

export const declaredTypes = ['text', 'number', 'boolean', 'instant'] as const
export type DeclaredType = (typeof declaredTypes)[number]

/** A value that a template asks for: of the sending, or of each person. */
export type Declared = {
  readonly type: DeclaredType
  /** It is an attribute of the person who reads it. */
  readonly ofPerson?: boolean | undefined
  /** What stands in for it. */
  readonly fallback?: Value | undefined
}
export type Declarations = { readonly [name: string]: Declared }

export type ValueFault = { readonly name: string; readonly says: string }

const fits: { readonly [Type in DeclaredType]: (value: Value) => boolean } = {
  text: (value) => typeof value === 'string',
  number: (value) => typeof value === 'number',
  boolean: (value) => typeof value === 'boolean',
  instant: (value) => typeof value === 'string' && valueFault(value, new Set(['moment'])) === undefined,
}

/** What a text names; nothing, when it cannot be read: that is said of it elsewhere. */
function valuesNamed(text: string): string[] {
  try {
    return [...new MessageText(text).uses.keys()]
  } catch (error) {
    if (!(error instanceof MalformedText)) throw error
    return []
  }
}

const placeInTag = /\{([A-Za-z][A-Za-z0-9_]{0,63})\}/g

/** The tags of a writing, the shared one and those of platforms. */
const tagsOf = ({ tag, perPlatform = {} }: Writing): string[] =>
  [tag, ...Object.values(perPlatform).map((one) => one?.tag)].filter((one) => one !== undefined)

const namesInTags = (writing: Writing): string[] =>
  tagsOf(writing).flatMap((tag) => [...tag.matchAll(placeInTag)].map(([, name]) => name!))

/** What stands in for values, by language. */
const fallbacksOf = ({ perLanguage = {}, perPlatform = {} }: Writing): [name: string, value: Value][] =>
  [perLanguage, ...Object.values(perPlatform).map((one) => one?.perLanguage ?? {})]
    .flatMap((all) => Object.values(all))
    .flatMap(({ fallbacks = {} }) => Object.entries(fallbacks))

/** A tag is the same for everybody, and is never more than this (RFC 8030 §5.4 takes 32 characters for a topic). */
const tagForm = /^[A-Za-z0-9_-]{1,32}$/

/**
 * A template's writing with the values of the sending in its tags: `sailing-{sailing}`.
 * @returns the fault of a tag that cannot be one
 */
export function withTags(writing: Writing, { values = {}, fallbacks = {} }: Filling): Writing | ValueFault {
  const faults: ValueFault[] = []
  const filled = <Part extends { readonly tag?: string | undefined }>(part: Part): Part => {
    if (part.tag === undefined || !part.tag.includes('{')) return part
    let last = ''
    const tag = part.tag.replaceAll(placeInTag, (_, name: string) => {
      last = name
      return String(values[name] ?? fallbacks[name] ?? '')
    })
    if (!tagForm.test(tag))
      faults.push({
        name: last,
        says: `makes the tag “${tag.slice(0, 60)}”, which wants 1 to 32 letters, digits, hyphens or underscores`,
      })
    return { ...part, tag }
  }
  const { perPlatform, ...shared } = writing
  const made = filled(shared)
  const platforms = Object.entries(perPlatform ?? {}).map(([name, part]) => [name, part && filled(part)])
  return faults[0] ?? (perPlatform ? { ...made, perPlatform: Object.fromEntries(platforms) } : made)
}

/** What is wrong with a template: texts name what is not declared, or a fallback is of another type. */
export function templateFaults(writing: Writing, declares: Declarations): ValueFault[] {
  const inTags = namesInTags(writing)
  const named = new Set([...textsOf(writing).flatMap(valuesNamed), ...inTags])
  const undeclared = [...named].filter((name) => !Object.hasOwn(declares, name))
  const wrong = Object.entries(declares).filter(
    ([, { type, fallback }]) => fallback !== undefined && !fits[type](fallback),
  )
  return [
    ...undeclared.map((name) => ({ name, says: 'is named by a text and not declared' })),
    ...wrong.map(([name, { type }]) => ({ name, says: `has a fallback that is no ${type}` })),
    ...inTags
      .filter((name) => declares[name]?.ofPerson)
      .map((name) => ({ name, says: 'is of each person, and a tag is the same for everybody' })),
    ...fallbacksOf(writing)
      .filter(([name, value]) => !(Object.hasOwn(declares, name) && fits[declares[name]!.type](value)))
      .map(([name]) => ({
        name,
        says: declares[name]
          ? `has a fallback that is no ${declares[name].type}`
          : 'has a fallback and is not declared',
      })),
  ]
}

/** What is wrong with the values that come with a template. */
export function givenFaults(declares: Declarations, values: Values): ValueFault[] {
  const faults: ValueFault[] = []
  for (const name of Object.keys(values))
    if (!Object.hasOwn(declares, name)) faults.push({ name, says: 'is not declared by the template' })
  for (const [name, { type, ofPerson, fallback }] of Object.entries(declares)) {
    const value = Object.hasOwn(values, name) ? values[name] : undefined
    if (value === undefined && !ofPerson && fallback === undefined) faults.push({ name, says: `is needed: a ${type}` })
    if (value !== undefined && !fits[type](value)) faults.push({ name, says: `is no ${type}` })
  }
  return faults
}

/** The filling of a template: what was given, and its own fallbacks under what was given. */
export function fillingOf(declares: Declarations, { values, fallbacks }: Filling): Filling {
  const own = Object.entries(declares).flatMap(([name, { fallback }]) =>
    fallback === undefined ? [] : [[name, fallback]],
  )
  return { values, fallbacks: { ...Object.fromEntries(own), ...fallbacks } }
}
