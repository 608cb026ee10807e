import { z } from 'zod'

type Issue = Parameters<NonNullable<ReturnType<typeof z.config>['localeError']>>[0]

/** What is wanted or given, as people call it. */
const kinds: Readonly<Record<string, string>> = {
  string: 'a text',
  number: 'a number',
  int: 'a whole number',
  boolean: 'true or false',
  object: 'an object',
  record: 'an object',
  map: 'an object',
  array: 'a list',
  tuple: 'a list',
  null: 'null',
  nan: 'no number',
  date: 'a time',
}
const formats: Readonly<Record<string, string>> = {
  email: 'an e-mail address',
  url: 'an address with its scheme, such as https://host/path',
  uuid: 'an id (UUID)',
  datetime: 'a time such as 2027-03-10T06:30:00Z',
  date: 'a day such as 2027-03-10',
  time: 'a time of day such as 06:30',
  base64: 'base64',
  base64url: 'base64url',
  ipv4: 'an IPv4 address',
  ipv6: 'an IPv6 address',
}
const units: Readonly<Record<string, string>> = { string: 'characters', array: 'items', set: 'items', map: 'entries' }

/** So much of what was given is repeated. */
const maxShown = 40
const maxOptions = 20

/**
 * What a schema found, in words that go on from the place: what is wanted and what was given. Checks that bring words of their own
 * keep them; a library's words reach nobody.
 */
export function schemaWords(issue: Issue): string {
  switch (issue.code) {
    case 'invalid_type':
      return issue.input === undefined
        ? `is missing; ${kindNamed(issue.expected)} is wanted`
        : `is ${given(issue.input)} where ${kindNamed(issue.expected)} is wanted`
    case 'invalid_value':
      return issue.input === undefined
        ? `is missing; it can be ${oneOf(issue.values)}`
        : `is ${given(issue.input)} and can be ${oneOf(issue.values)}`
    case 'too_small':
      return `${sized(issue.origin)} ${issue.inclusive === false ? 'more than' : 'at least'} ${String(issue.minimum)}${unit(issue.origin)}`
    case 'too_big':
      return `${sized(issue.origin)} ${issue.inclusive === false ? 'less than' : 'at most'} ${String(issue.maximum)}${unit(issue.origin)}`
    case 'invalid_format':
      return `is ${given(issue.input)} where ${formats[issue.format] ?? 'something else'} is wanted`
    case 'not_multiple_of':
      return `is ${given(issue.input)} and has to be a multiple of ${String(issue.divisor)}`
    case 'unrecognized_keys':
      return `has ${issue.keys.slice(0, maxOptions).map(quoted).join(', ')}, which ${issue.keys.length === 1 ? 'is' : 'are'} not known here`
    case 'invalid_key':
      return 'has a name that cannot be one here'
    case 'invalid_element':
      return 'has an item that cannot be one here'
    case 'invalid_union':
      return issue.input === undefined ? 'is missing' : `is ${given(issue.input)}, which is none of what can stand here`
    default:
      return 'cannot be used'
  }
}

const kindNamed = (name: string): string => kinds[name] ?? `a value of the kind ${name}`
const sized = (origin: string): string => (units[origin] === undefined ? 'has to be' : 'has to have')
const unit = (origin: string): string => (units[origin] === undefined ? '' : ` ${units[origin]}`)
const quoted = (text: string): string => `“${text.length > maxShown ? `${text.slice(0, maxShown)}…` : text}”`

function given(value: unknown): string {
  switch (typeof value) {
    case 'string':
      return quoted(value)
    case 'number':
      return Number.isFinite(value) ? String(value) : 'no number'
    case 'boolean':
      return String(value)
    case 'bigint':
      return String(value)
    default:
      return value === null ? 'null' : Array.isArray(value) ? 'a list' : 'an object'
  }
}

function oneOf(values: readonly unknown[]): string {
  const names = values.slice(0, maxOptions).map(String)
  const more = values.length > maxOptions ? [`${values.length - maxOptions} others`] : []
  const all = [...names, ...more]
  return all.length < 2 ? (all[0] ?? 'nothing') : `${all.slice(0, -1).join(', ')} or ${all.at(-1)}`
}

z.config({ localeError: schemaWords })
