import type { Completion, CompletionContext, CompletionResult } from '@codemirror/autocomplete'
import { yaml } from '@codemirror/lang-yaml'

export const profileLanguage = yaml()

/** As much of JSON Schema 2020-12 as says what may stand where. */
export type Schema = {
  readonly properties?: Readonly<Record<string, Schema>>
  readonly items?: Schema
  readonly anyOf?: readonly Schema[]
  readonly oneOf?: readonly Schema[]
  readonly enum?: readonly unknown[]
  readonly const?: unknown
  readonly description?: string
}

/** All forms that something may have. */
const formsOf = (schema: Schema): readonly Schema[] => [
  schema,
  ...[...(schema.anyOf ?? []), ...(schema.oneOf ?? [])].flatMap(formsOf),
]

/** What may stand at a path of names; a list's entries stand under `-`. */
const at = (schema: Schema, path: readonly string[]): readonly Schema[] =>
  path.reduce<readonly Schema[]>(
    (here, name) =>
      here.flatMap(formsOf).flatMap((one) => (name === '-' ? (one.items ?? []) : (one.properties?.[name] ?? []))),
    [schema],
  )

/** The names above a line, from the outermost, by how far each stands in. */
function pathAbove(lines: readonly string[], indent: number): string[] {
  const path: string[] = []
  let within = indent
  for (let n = lines.length - 1; n >= 0 && within > 0; n--) {
    const [, spaces = '', dash = '', name] = /^(\s*)(-\s+)?(?:([\w-]+)\s*:)?/.exec(lines[n] ?? '') ?? []
    if (!(lines[n] ?? '').trim() || (lines[n] ?? '').trimStart().startsWith('#')) continue
    const own = spaces.length
    if (dash && own < within && own + dash.length <= within) path.unshift('-')
    if (name !== undefined && own + dash.length < within && !dash) path.unshift(name)
    within = Math.min(within, own)
  }
  return path
}

type Where = { readonly path: readonly string[]; readonly typed: string; readonly value: boolean; readonly key: string }

/** Where in the file somebody writes; undefined within an expression or a text. */
function whereIs(before: string): Where | undefined {
  const lines = before.split('\n')
  const line = lines.pop() ?? ''
  if (/^\s*#/.test(line)) return undefined
  const [, spaces = '', dash = ''] = /^(\s*)(-\s+)?/.exec(line) ?? []
  const rest = line.slice(spaces.length + dash.length)
  const indent = spaces.length + dash.length
  const above = [...pathAbove(lines, spaces.length + (dash ? 1 : 0)), ...(dash ? ['-'] : [])]
  // Names that go on from here within braces: what stands after the last brace or comma.
  const brace = rest.lastIndexOf('{')
  const inBraces = brace >= 0 && !rest.slice(brace).includes('}')
  const own = inBraces ? rest.slice(Math.max(brace, rest.lastIndexOf(',')) + 1) : rest
  const outer = inBraces ? (/^([\w-]+)\s*:\s*\{/.exec(rest)?.[1] ?? '') : ''
  const path = [...(indent === 0 && !dash ? [] : above), ...(outer ? [outer] : [])]
  const [, key, value] = /^\s*([\w-]+)\s*:\s+([\w.-]*)$/.exec(own) ?? []
  if (key !== undefined) return { path, typed: value ?? '', value: true, key }
  const [, name] = /^\s*([\w-]*)$/.exec(own) ?? []
  return name === undefined ? undefined : { path, typed: name, value: false, key: '' }
}

/** Offers the names that a profile may have where one writes, each with what it is for; and the words that a value may be. */
export const completeProfile =
  (schema: () => Schema | undefined) =>
  (context: CompletionContext): CompletionResult | null => {
    const known = schema()
    const where = whereIs(context.state.sliceDoc(0, context.pos))
    if (!known || !where || (where.typed === '' && !context.explicit)) return null
    const from = context.pos - where.typed.length
    const here = at(known, where.path).flatMap(formsOf)
    const options: readonly Completion[] = where.value
      ? wordsOf(here.flatMap((one) => one.properties?.[where.key] ?? []))
      : namesOf(here)
    return options.length === 0 ? null : { from, options, validFor: /^[\w.-]*$/ }
  }

function namesOf(forms: readonly Schema[]): Completion[] {
  const names = new Map<string, Completion>()
  for (const { properties = {} } of forms)
    for (const [name, one] of Object.entries(properties)) {
      const detail = one.description ?? ''
      if (!names.has(name))
        names.set(name, { label: name, apply: `${name}: `, detail: detail.slice(0, 70), type: 'property' })
    }
  return [...names.values()]
}

const wordsOf = (schemas: readonly Schema[]): Completion[] => {
  const words = schemas
    .flatMap(formsOf)
    .flatMap((one) => [...(one.enum ?? []), ...(one.const === undefined ? [] : [one.const])])
  return [...new Set(words.map(String))].map((label) => ({ label, type: 'constant' }))
}
