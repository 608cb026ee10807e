import type { Mode, Urgency } from '../content/content.ts'
import { beginningOf } from '../content/well-formed.ts'
import type { Value, Values, Writing } from '../content/writing.ts'
import type { ExplainedPart } from '../rules/explain-rule.ts'
import { orNearest, type RuleFault, RuleRefused } from '../rules/fault.ts'
import { parseReference, targetLimits } from '../targets/target.ts'
import { Expression, type ExpressionInput } from './expression.ts'

/** Whom a firing is for: each reference is an expression. */
export type TriggerTarget = {
  readonly any?: readonly string[] | undefined
  readonly all?: readonly string[] | undefined
  readonly none?: readonly string[] | undefined
}

/** What is rung: a template that is filled in, or words of its own. */
export type TriggerCase = {
  /** It is this case if that holds; always when left out. */
  readonly when?: string | undefined
  readonly to?: TriggerTarget | undefined
  readonly template?: string | undefined
  readonly content?: Partial<Writing> | undefined
  /** By name, each an expression. */
  readonly values?: { readonly [name: string]: string } | undefined
}

export type TriggerOptions = {
  readonly urgency?: Urgency | undefined
  readonly mode?: Mode | undefined
  readonly ttlSeconds?: number | undefined
  readonly channel?: string | undefined
  /** An expression. */
  readonly tag?: string | undefined
}

/** What rings without a person, as somebody writes it. */
export type TriggerDefinition = TriggerCase & {
  /** A source by its name, or `occurrences`. */
  readonly source: string
  /** Of occurrences: only those of these types. */
  readonly types?: readonly string[] | undefined
  /** Of occurrences: also those that devices report, beside those of the server and of sources. */
  readonly devices?: boolean | undefined
  /** The first that holds counts; what it leaves out is the trigger’s own. */
  readonly cases?: readonly TriggerCase[] | undefined
  /** One firing for each key; that of the row or the event when left out. */
  readonly key?: string | undefined
  readonly notMoreOftenThan?: number | undefined
  /** It waits for so many seconds, and then asks `unless` again. */
  readonly after?: number | undefined
  readonly unless?: string | undefined
  /** Whether it rings for what a source found after it was away for longer than `lateAfterSeconds`. */
  readonly late?: 'ring' | 'skip' | undefined
  readonly lateAfterSeconds?: number | undefined
  readonly options?: TriggerOptions | undefined
}

export const triggerLimits = Object.freeze({
  cases: 20,
  references: 20,
  values: 50,
  seconds: 2_592_000,
  keyChars: 200,
  /** Of a whole definition, as JSON. */
  chars: 64_000,
  /** Of the references, values and tag of one firing together. */
  firingChars: 64_000,
})

/** The length of a definition as JSON, in UTF-16 units: the time to parse it grows with it. */
export const lengthOf = (definition: TriggerDefinition): number => JSON.stringify(definition).length

/** A place in a definition, as a JSON Pointer, and what is wrong there. */
export type TriggerFault = { readonly pointer: string; readonly says: string; readonly place?: RuleFault }

type ReadCase = {
  readonly when: Expression | undefined
  readonly to: { readonly [Part in keyof Required<TriggerTarget>]: readonly Expression[] }
  readonly template: string | undefined
  readonly content: Partial<Writing> | undefined
  readonly values: readonly (readonly [name: string, value: Expression])[]
}

/** What a row or an event makes of a trigger. */
export type Fired =
  | {
      readonly is: 'fires'
      readonly case: number
      readonly key: string
      readonly to: { readonly any?: string[]; readonly all?: string[]; readonly none?: string[] }
      readonly template: string | undefined
      readonly content: Partial<Writing> | undefined
      readonly values: Values
      readonly tag: string | undefined
    }
  | { readonly is: 'no-case'; readonly says: string }
  | { readonly is: 'fault'; readonly says: string; readonly key?: string }

/** A condition that was asked, whether it holds, and why. */
export type ExplainedCase = {
  readonly when: string
  readonly holds: boolean
  readonly parts: readonly ExplainedPart[]
}

/** A trigger that is read, ready to be asked about one row or event after the other. */
export class Trigger {
  readonly definition: TriggerDefinition
  readonly #when: Expression | undefined
  readonly #cases: readonly ReadCase[]
  readonly #key: Expression | undefined
  readonly #unless: Expression | undefined
  readonly #tag: Expression | undefined
  /** The sum of its expressions’ {@link Expression.effort}. */
  readonly effort: number

  /** @throws {RuleRefused} for what {@link triggerFaults} names */
  constructor(definition: TriggerDefinition) {
    this.definition = definition
    const { cases, key, unless, options = {} } = definition
    this.#when = cases ? read(definition.when) : undefined
    this.#cases = (cases ?? [definition]).map((one) => readCase({ ...inherited(definition), ...given(one) }))
    this.#key = read(key)
    this.#unless = read(unless)
    this.#tag = read(options.tag)
    const ofCases = this.#cases.flatMap(({ when, to, values }) => [
      when,
      ...Object.values(to).flat(),
      ...values.map(([, value]) => value),
    ])
    const all = [this.#when, this.#key, this.#unless, this.#tag, ...ofCases]
    this.effort = all.reduce((sum, one) => sum + (one?.effort ?? 0), 0)
  }

  /** Whether what would ring is not to, by now. */
  isOver(now: ExpressionInput): boolean {
    return this.#unless?.holds(now).holds ?? false
  }

  /** @param ownKey of the row or the event, for a trigger that has none of its own */
  fire(now: ExpressionInput, ownKey: string): Fired {
    const outer = this.#when?.holds(now)
    if (outer && !outer.holds) return { is: 'no-case', says: outer.says ?? 'when does not hold' }
    const says: string[] = []
    for (const [at, one] of this.#cases.entries()) {
      const answer = one.when?.holds(now) ?? { holds: true }
      if (answer.holds) return this.#made(at, one, now, ownKey)
      if (answer.says !== undefined) says.push(answer.says)
    }
    return { is: 'no-case', says: says[0] ?? 'no case holds' }
  }

  /** Clause by clause what {@link fire} asks, up to the first case that holds. */
  explain(now: ExpressionInput): ExplainedCase[] {
    const asked: ExplainedCase[] = []
    const ask = (when: Expression | undefined): boolean => {
      if (!when) return true
      const { holds } = when.holds(now)
      asked.push({ when: when.text, holds, parts: when.explain(now) })
      return holds
    }
    if (ask(this.#when)) this.#cases.some(({ when }) => ask(when))
    return asked
  }

  #made(at: number, one: ReadCase, now: ExpressionInput, ownKey: string): Fired {
    const ofKey = this.#key ? textOf(this.#key, now) : ownKey
    if (typeof ofKey !== 'string') return { is: 'fault', says: `its key ${ofKey.says}` }
    const key = beginningOf(ofKey, triggerLimits.keyChars)
    const fault = (what: string, says: string): Fired => ({ is: 'fault', says: `${what} ${says}`, key })
    const to: { any?: string[]; all?: string[]; none?: string[] } = {}
    for (const part of ['any', 'all', 'none'] as const) {
      if (one.to[part].length === 0) continue
      const references: string[] = []
      for (const expression of one.to[part]) {
        const reference = textOf(expression, now)
        if (typeof reference !== 'string') return fault(`the reference ${expression.text}`, reference.says)
        const wrong = parseReference(reference)
        if (typeof wrong === 'string') return fault(`the reference “${reference.slice(0, 100)}”`, wrong)
        references.push(reference)
      }
      to[part] = references
    }
    const values: [string, Value][] = []
    for (const [name, expression] of one.values) {
      const found = expression.evaluate(now)
      if (found.is === 'neither') return fault(`the value ${name}`, `cannot be said: ${found.says}`)
      const { value } = found
      // A value that the row does not have stands in for nothing; a template says whether it can be without.
      if (value === null) continue
      if (typeof value === 'object')
        return fault(`the value ${name}`, 'is neither text, nor a number, nor true or false')
      values.push([name, value])
    }
    const tag = this.#tag ? textOf(this.#tag, now) : undefined
    if (tag !== undefined && typeof tag !== 'string') return fault('its tag', tag.says)
    const made = [...Object.values(to).flat(), ...values.map(([, value]) => String(value)), tag ?? '']
    const chars = made.reduce((sum, text) => sum + text.length, 0)
    if (chars > triggerLimits.firingChars)
      return fault(
        'what it says',
        `has ${chars.toLocaleString('en')} characters; ${triggerLimits.firingChars.toLocaleString('en')} at most`,
      )
    const { template, content } = one
    return {
      is: 'fires',
      case: at,
      key,
      to,
      template,
      content,
      values: Object.fromEntries(values),
      tag,
    }
  }
}

const read = (text: string | undefined): Expression | undefined =>
  text === undefined ? undefined : new Expression(text)

const inherited = ({ to, template, content, values }: TriggerDefinition): TriggerCase => ({
  to,
  template,
  content,
  values,
})

/** What a case says itself, without what it leaves out. */
const given = ({ when, to, template, content, values }: TriggerCase): TriggerCase =>
  Object.fromEntries(
    Object.entries({ when, to, template, content, values }).filter(([, value]) => value !== undefined),
  ) as TriggerCase

const readCase = ({ when, to = {}, template, content, values = {} }: TriggerCase): ReadCase => ({
  when: read(when),
  to: {
    any: (to.any ?? []).map((one) => new Expression(one)),
    all: (to.all ?? []).map((one) => new Expression(one)),
    none: (to.none ?? []).map((one) => new Expression(one)),
  },
  // One of the two is said, the nearer one.
  template: content !== undefined && template !== undefined ? undefined : template,
  content,
  values: Object.entries(values).map(([name, text]) => [name, new Expression(text)] as const),
})

/** A text; a number or a truth is written as one. */
function textOf(expression: Expression, now: ExpressionInput): string | { readonly says: string } {
  const found = expression.evaluate(now)
  if (found.is === 'neither') return { says: `cannot be said: ${found.says}` }
  const { value } = found
  if (typeof value === 'string') return value === '' ? { says: 'is empty' } : value
  if (typeof value === 'number' || typeof value === 'boolean') return String(value)
  return { says: 'is no text' }
}

/** What a trigger’s definition can be held against, as far as it is known. */
export type TriggerSurroundings = {
  /** The columns of its source, where all are known. */
  readonly columns?: readonly string[] | undefined
  /** Of each template that it names the values that it declares, and those that every sending has to give. */
  readonly templates?: {
    readonly [reference: string]: { readonly knows: readonly string[]; readonly needs: readonly string[] }
  }
}

/** What is wrong with a definition, each with its place. */
export function triggerFaults(
  definition: TriggerDefinition,
  { columns, templates = {} }: TriggerSurroundings = {},
): TriggerFault[] {
  const chars = lengthOf(definition)
  if (chars > triggerLimits.chars) {
    const [is, most] = [chars, triggerLimits.chars].map((count) => count.toLocaleString('en'))
    return [{ pointer: '', says: `has ${is} characters in all; ${most} at most` }]
  }
  const faults: TriggerFault[] = []
  const check = (pointer: string, text: string | undefined) => {
    if (text === undefined) return
    try {
      const expression = new Expression(text)
      if (!columns) return
      const unknown = [...expression.members('row'), ...expression.members('before')].find(
        (name) => !columns.includes(name),
      )
      if (unknown !== undefined)
        faults.push({
          pointer,
          says: `names a column ${unknown} that the source does not have${orNearest(unknown, columns)}`,
        })
    } catch (error) {
      if (!(error instanceof RuleRefused)) throw error
      const [place] = error.faults
      if (place) faults.push({ pointer, says: place.says, place })
    }
  }
  const whole = (pointer: string, one: TriggerCase) => {
    check(`${pointer}/when`, one.when)
    for (const part of ['any', 'all', 'none'] as const)
      for (const [i, text] of (one.to?.[part] ?? []).entries()) check(`${pointer}/to/${part}/${i}`, text)
    for (const [name, text] of Object.entries(one.values ?? {})) check(`${pointer}/values/${name}`, text)
    const references = [one.to?.any, one.to?.all, one.to?.none].flatMap((all) => all ?? []).length
    if (references > Math.min(triggerLimits.references, targetLimits.references))
      faults.push({ pointer: `${pointer}/to`, says: `has more than ${triggerLimits.references} references` })
  }
  whole('', definition)
  const { cases, key, unless, after, options = {} } = definition
  for (const [i, one] of (cases ?? []).entries()) whole(`/cases/${i}`, one)
  for (const [i, one] of (cases ?? [definition]).entries()) {
    const own = { ...inherited(definition), ...given(one) }
    const pointer = cases ? `/cases/${i}` : ''
    if (own.to?.any === undefined && own.to?.all === undefined)
      faults.push({ pointer: `${pointer}/to`, says: 'is needed, with any or all: for whom it rings' })
    if (own.template === undefined && own.content === undefined)
      faults.push({ pointer: `${pointer}/template`, says: 'is needed, or content: what it says' })
    if (one.template !== undefined && one.content !== undefined)
      faults.push({ pointer: `${pointer}/content`, says: 'comes from the template; leave it out' })
    const template = own.content === undefined && own.template !== undefined ? templates[own.template] : undefined
    if (!template) continue
    const names = Object.keys(own.values ?? {})
    // A value of the trigger’s own stands where it was written.
    const at = (name: string) => (one.values && Object.hasOwn(one.values, name) ? pointer : '')
    for (const name of names.filter((given) => !template.knows.includes(given)))
      faults.push({
        pointer: `${at(name)}/values/${name}`,
        says: `is no value of the template ${own.template}${orNearest(name, template.knows)}`,
      })
    for (const name of template.needs.filter((needed) => !names.includes(needed)))
      faults.push({ pointer: `${pointer}/values`, says: `lacks ${name}, which the template ${own.template} needs` })
  }
  for (const member of ['late', 'lateAfterSeconds'] as const)
    if (definition.source === 'occurrences' && definition[member] !== undefined)
      faults.push({
        pointer: `/${member}`,
        says: 'is of sources that are read; what happens is taken when it is reported',
      })
  if (definition.source !== 'occurrences' && definition.devices !== undefined)
    faults.push({ pointer: '/devices', says: 'is for source: occurrences; devices do not report to other sources' })
  check('/key', key)
  check('/unless', unless)
  check('/options/tag', options.tag)
  if (unless !== undefined && after === undefined)
    faults.push({ pointer: '/unless', says: 'belongs to after: it is asked again when that is over' })
  return faults
}
