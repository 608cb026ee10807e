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

/** What is wrong with a template: texts name what is not declared, or a fallback is of another type. */
export function templateFaults(writing: Writing, declares: Declarations): ValueFault[] {
  const named = new Set(textsOf(writing).flatMap(valuesNamed))
  const undeclared = [...named].filter((name) => !Object.hasOwn(declares, name))
  const wrong = Object.entries(declares).filter(
    ([, { type, fallback }]) => fallback !== undefined && !fits[type](fallback),
  )
  return [
    ...undeclared.map((name) => ({ name, says: 'is named by a text and not declared' })),
    ...wrong.map(([name, { type }]) => ({ name, says: `has a fallback that is no ${type}` })),
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
