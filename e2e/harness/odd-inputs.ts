/** A schema as the OpenAPI document has it (JSON Schema 2020-12). */
export type Schema = {
  readonly $ref?: string
  readonly type?: string | readonly string[]
  readonly enum?: readonly unknown[]
  readonly const?: unknown
  readonly anyOf?: readonly Schema[]
  readonly oneOf?: readonly Schema[]
  readonly allOf?: readonly Schema[]
  readonly properties?: Readonly<Record<string, Schema>>
  readonly required?: readonly string[]
  readonly additionalProperties?: boolean | Schema
  readonly items?: Schema
  readonly minimum?: number
  readonly maximum?: number
  readonly minLength?: number
  readonly maxLength?: number
  readonly maxItems?: number
  readonly pattern?: string
  readonly format?: string
  readonly examples?: readonly unknown[]
}

const oddTexts = [
  '',
  ' ',
  '\0',
  '\u009b31m',
  '\u202Eabc',
  '\uD800',
  'e\u0301'.repeat(200),
  '🛳️'.repeat(300),
  'x'.repeat(5_000),
  '__proto__',
  'constructor',
  'user:ada',
  'everyone',
  'topic:route-4',
  `' or 1=1 -- `,
  '\\',
  '%00%0d%0a',
  '{n, plural, one {#} other {#}}',
  '{'.repeat(500),
  'https://127.0.0.1:1/x',
  '2026-13-45T99:99',
  '2026-12-01T08:00',
  'FREQ=MINUTELY',
  'Europe/Oslo',
  '$$$',
  'user.pier == "x"',
  '９９９',
  '-0',
  'true',
  '1e309',
]
const oddNumbers = [0, -0, -1, 1, 1.5, 2 ** 31, 2 ** 53, -(2 ** 53), 1e308, 5e-324]

/** Makes inputs that are as a schema says, and by some of it are not; the same for the same seed. */
export class OddInputs {
  #state: number
  readonly #schemas: Readonly<Record<string, Schema>>

  constructor(seed: number, schemas: Readonly<Record<string, Schema>>) {
    this.#state = seed >>> 0 || 1
    this.#schemas = schemas
  }

  /** From 0 to 1 (a linear congruence; no chance of anybody’s depends on it). */
  chance(): number {
    this.#state = (Math.imul(this.#state, 1_664_525) + 1_013_904_223) >>> 0
    return this.#state / 2 ** 32
  }

  of<T>(all: readonly T[]): T {
    return all[Math.floor(this.chance() * all.length)]!
  }

  /** Something that no schema asks for. */
  odd(depth = 0): unknown {
    const pick = this.chance()
    if (pick < 0.5) return this.of(oddTexts)
    if (pick < 0.65) return this.of(oddNumbers)
    if (pick < 0.75) return this.of([null, true, false])
    if (depth > 3) return {}
    if (pick < 0.8) return this.#deep(this.of([5, 60, 150]))
    const many = Array.from({ length: Math.floor(this.chance() * 6) }, () => this.odd(depth + 1))
    return pick < 0.9 ? many : Object.fromEntries(many.map((one, n) => [this.of([...oddTexts, `a${n}`]), one]))
  }

  #deep(levels: number): unknown {
    let value: unknown = 'x'
    for (let level = 0; level < levels; level++) value = level % 2 ? [value] : { a: value }
    return value
  }

  /** @param faults how often something is not as the schema says, 0 to 1 */
  value(schema: Schema, faults: number, depth = 0): unknown {
    if (this.chance() < faults) return this.odd(depth)
    if (schema.$ref) {
      const named = this.#schemas[schema.$ref.split('/').at(-1)!]
      return named && depth < 12 ? this.value(named, faults, depth + 1) : 'x'
    }
    if (schema.const !== undefined) return schema.const
    if (schema.enum) return this.of(schema.enum)
    const choices = schema.anyOf ?? schema.oneOf
    if (choices && depth < 12) return this.value(this.of(choices), faults, depth + 1)
    if (schema.allOf?.[0]) return this.value(schema.allOf[0], faults, depth + 1)
    if (schema.examples && this.chance() < 0.3) return this.of(schema.examples)
    const type = typeof schema.type === 'string' ? schema.type : this.of(schema.type ?? ['object', 'string'])
    switch (type) {
      case 'object':
        return this.#object(schema, faults, depth)
      case 'array': {
        const length = this.chance() < 0.02 ? (schema.maxItems ?? 50) + 1 : Math.floor(this.chance() * 4)
        return Array.from({ length: Math.min(length, 300) }, () => this.value(schema.items ?? {}, faults, depth + 1))
      }
      case 'integer':
      case 'number':
        return this.of([schema.minimum ?? 0, schema.maximum ?? 100, Math.floor(this.chance() * 100), ...oddNumbers])
      case 'boolean':
        return this.chance() < 0.5
      case 'null':
        return null
      default:
        return this.#text(schema)
    }
  }

  #object({ properties = {}, required = [], additionalProperties }: Schema, faults: number, depth: number): object {
    const made: [string, unknown][] = []
    for (const [name, schema] of Object.entries(properties)) {
      const wanted = required.includes(name) ? this.chance() > faults / 2 : depth < 8 && this.chance() < 0.4
      if (wanted) made.push([name, this.value(schema, faults, depth + 1)])
    }
    if (typeof additionalProperties === 'object' && depth < 8)
      made.push([this.of(['a', 'homePier', ...oddTexts]), this.value(additionalProperties, faults, depth + 1)])
    if (this.chance() < faults) made.push([this.of(oddTexts), this.odd(depth + 1)])
    return Object.fromEntries(made)
  }

  #text({ format, minLength = 0, maxLength }: Schema): string {
    if (this.chance() < 0.2) return this.of(oddTexts)
    if (format === 'date-time') return '2026-12-01T08:00:00Z'
    if (format === 'uri') return this.of(['https://ferries.example/x', 'http://x', 'urn:x'])
    if (format === 'email') return 'ada@merrow-sound.example'
    const length = this.chance() < 0.05 ? (maxLength ?? 300) + 1 : Math.max(minLength, Math.floor(this.chance() * 20))
    return Array.from({ length: Math.min(length, 6_000) }, () => this.of([...'abcdefghij-0123'])).join('')
  }
}
