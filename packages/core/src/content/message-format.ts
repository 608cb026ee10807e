import { IntlMessageFormat } from 'intl-messageformat'
import { directionOf } from './languages.ts'
import type { Value } from './writing.ts'

/** How a text uses a value: as it is, as a number (also to choose a plural), as a moment, or to choose among words. */
export type Use = 'text' | 'number' | 'moment' | 'choice'

type Element = {
  readonly type: number
  readonly value?: string
  /** How a number, a date or a time is written: by name, or by a skeleton. */
  readonly style?: string | { readonly parsedOptions?: object } | null
  readonly options?: { readonly [name: string]: { readonly value: readonly Element[] } }
}

const literal = 0

const literalsOf = (elements: readonly Element[]): string =>
  elements
    .map(({ type, value = '', options = {} }) =>
      type === literal
        ? value
        : Object.values(options)
            .map((one) => literalsOf(one.value))
            .join(' '),
    )
    .join(' ')

/** The kinds of elements in a parsed text, as the parser numbers them. */
const kinds: { readonly [type: number]: Use | undefined } = {
  1: 'text',
  2: 'number',
  3: 'moment',
  4: 'moment',
  5: 'choice',
  6: 'number',
}

/** A text in Unicode MessageFormat (ICU) that cannot be read. */
export class MalformedText extends Error {
  override readonly name = 'MalformedText'
  /** Where, when that can be told. */
  readonly place: TextPlace | undefined

  constructor(message: string, place?: TextPlace) {
    super(message)
    this.place = place
  }
}

/** A place in a text, from 1; a column is a code point. */
export type TextPlace = { readonly line: number; readonly column: number }

/** How deep choices may lie in one another, and how many places a text may have. */
const deepest = 6
const maxPlaces = 200

/** A text with places for values, read once. */
export class MessageText {
  readonly uses: ReadonlyMap<string, ReadonlySet<Use>>
  /** By its own first letter, whatever its values are; `undefined` when it has none. */
  readonly direction: 'ltr' | 'rtl' | undefined
  readonly #text: string
  readonly #formats = new Map<string, IntlMessageFormat>()

  /** @throws {MalformedText} */
  constructor(text: string) {
    this.#text = text
    const uses = new Map<string, Set<Use>>()
    const elements = /[{}'#]/.test(text) ? parse(text) : [{ type: literal, value: text }]
    collect(elements, uses, { left: maxPlaces }, deepest)
    checkStyles(elements)
    this.uses = uses
    this.direction = directionOf(literalsOf(elements))
  }

  /** Whether every reader gets the same. */
  get isPlain(): boolean {
    return this.uses.size === 0
  }

  /**
   * @param values every one that `uses` names
   * @param locale BCP 47, for plurals, numbers and dates
   * @param zone IANA, for dates and times
   * @param direction of the text around: a value of the other direction is isolated (Unicode UAX #9, FSI and PDI)
   */
  render(values: { readonly [name: string]: Value }, locale: string, zone: string, direction: 'ltr' | 'rtl'): string {
    if (!/[{}'#]/.test(this.#text)) return this.#text
    const given: Record<string, unknown> = {}
    for (const [name, uses] of this.uses) given[name] = fit(values[name]!, uses, direction)
    try {
      return String(this.#format(locale, zone).format(given as never))
    } catch (error) {
      // Nothing is known that comes here: what the engine’s formatters take was asked when the text was read.
      throw new MalformedText(`cannot be written out: ${(error as Error).message}`)
    }
  }

  #format(locale: string, zone: string): IntlMessageFormat {
    const name = `${locale} ${zone}`
    const known = this.#formats.get(name)
    if (known) return known
    const made = new IntlMessageFormat(this.#text, locale, undefined, {
      ignoreTag: true,
      formatters: formattersIn(zone),
    })
    // Readers come from a few dozen places at most; whoever sends more than that pays for it.
    if (this.#formats.size >= 200) this.#formats.clear()
    this.#formats.set(name, made)
    return made
  }
}

function parse(text: string): readonly Element[] {
  try {
    return new IntlMessageFormat(text, 'en', undefined, { ignoreTag: true }).getAst() as unknown as Element[]
  } catch (error) {
    const { message, location } = error as ParseError
    const start = location?.start
    throw new MalformedText(says(message, start), start && { line: start.line, column: start.column })
  }
}

const words: { readonly [code: string]: string } = {
  EXPECT_ARGUMENT_CLOSING_BRACE: 'a { is not closed by a }',
  EMPTY_ARGUMENT: 'there is nothing between { and }',
  MALFORMED_ARGUMENT: 'between { and } a name is wanted, such as {pier}',
  UNMATCHED_CLOSING_TAG: 'a tag is closed that was never opened',
  MISSING_OTHER_CLAUSE: 'a choice has no “other”',
  INVALID_ARGUMENT_TYPE: 'after the comma stands number, date, time, plural, select or selectordinal',
  EXPECT_SELECT_ARGUMENT_OPTIONS: 'a choice has no cases, such as other {…}',
  EXPECT_PLURAL_ARGUMENT_SELECTOR_FRAGMENT: 'a case wants its words between { and }',
  EXPECT_SELECT_ARGUMENT_SELECTOR_FRAGMENT: 'a case wants its words between { and }',
}

type ParseError = { readonly message: string; readonly location?: { readonly start?: Start } }
type Start = TextPlace & { readonly offset: number }

function says(message: string, start: Start | undefined): string {
  const at = start ? `, at character ${start.offset + 1}` : ''
  return `is no MessageFormat${at}: ${words[message] ?? message.toLowerCase().replaceAll('_', ' ')}; a brace that is meant as such is written '{'`
}

function collect(
  elements: readonly Element[],
  uses: Map<string, Set<Use>>,
  budget: { left: number },
  depth: number,
): void {
  if (depth === 0) throw new MalformedText(`has choices in choices more than ${deepest} deep`)
  for (const { type, value, options } of elements) {
    const use = kinds[type]
    if (use === undefined || value === undefined) continue
    if (--budget.left < 0) throw new MalformedText(`has more than ${maxPlaces} places for values`)
    uses.set(value, (uses.get(value) ?? new Set()).add(use))
    for (const option of Object.values(options ?? {})) collect(option.value, uses, budget, depth - 1)
  }
}

/** A style can be read and still be one that nothing can be written in, such as a currency of no country: each is made once. */
function checkStyles(elements: readonly Element[]): void {
  for (const { type, style, options } of elements) {
    const given = typeof style === 'object' ? style?.parsedOptions : undefined
    try {
      if (given && kinds[type] === 'number') new Intl.NumberFormat('en', given)
      if (given && kinds[type] === 'moment') new Intl.DateTimeFormat('en', { timeZone: 'UTC', ...given })
    } catch (error) {
      throw new MalformedText(`has a style in which nothing can be written: ${(error as Error).message}`)
    }
    for (const option of Object.values(options ?? {})) checkStyles(option.value)
  }
}

const firstStrongIsolate = '\u2068'
const popDirectionalIsolate = '\u2069'

function fit(value: Value, uses: ReadonlySet<Use>, direction: 'ltr' | 'rtl'): unknown {
  if (uses.has('moment')) return new Date(typeof value === 'boolean' ? Number(value) : value)
  if (uses.has('number')) return Number(value)
  if (uses.has('choice') || typeof value !== 'string') return String(value)
  const own = directionOf(value)
  return own === undefined || own === direction ? value : firstStrongIsolate + value + popDirectionalIsolate
}

/** What is wrong with a value for a use; `undefined` when it fits. */
export function valueFault(value: Value, uses: ReadonlySet<Use>): string | undefined {
  if (uses.has('moment') && (typeof value === 'boolean' || Number.isNaN(new Date(value).getTime())))
    return 'is no moment, such as 2026-11-23T17:45:00Z'
  if (uses.has('number') && (typeof value === 'boolean' || value === '' || Number.isNaN(Number(value))))
    return 'is no number'
  return undefined
}

const kept = new Map<
  string,
  {
    numbers: Map<string, Intl.NumberFormat>
    dates: Map<string, Intl.DateTimeFormat>
    plurals: Map<string, Intl.PluralRules>
  }
>()

/** Formatters that know the reader's time zone; each is made once, since making one costs as much as using it a thousand times. */
function formattersIn(zone: string) {
  let own = kept.get(zone)
  if (!own) {
    if (kept.size >= 500) kept.clear()
    own = { numbers: new Map(), dates: new Map(), plurals: new Map() }
    kept.set(zone, own)
  }
  const { numbers, dates, plurals } = own
  return {
    getNumberFormat: (locales?: string | string[], options?: object) =>
      remembered(numbers, locales, options, () => new Intl.NumberFormat(locales, options)),
    getDateTimeFormat: (locales?: string | string[], options?: object) =>
      remembered(dates, locales, options, () => new Intl.DateTimeFormat(locales, { timeZone: zone, ...options })),
    getPluralRules: (locales?: string | string[], options?: object) =>
      remembered(plurals, locales, options, () => new Intl.PluralRules(locales, options)),
  }
}

function remembered<T>(all: Map<string, T>, locales: unknown, options: unknown, make: () => T): T {
  const name = JSON.stringify([locales, options])
  const known = all.get(name)
  if (known !== undefined) return known
  const made = make()
  all.set(name, made)
  return made
}
