import type { Expr } from '@bufbuild/cel-spec/cel/expr/syntax_pb.js'
import type { AttributeType } from '../people/attributes.ts'

/** What a part of a rule gives. `any` is a value from an occurrence's data, whose type is known only when it is there. */
export type RuleType = AttributeType | 'duration' | 'version' | 'any'

/** What is known of a device, and its type in rules. */
export const deviceFields = {
  platform: 'text',
  locale: 'text',
  timeZone: 'text',
  appVersion: 'text',
  systemVersion: 'text',
  model: 'text',
  permission: 'text',
  muted: 'boolean',
  registeredAt: 'instant',
  seenAt: 'instant',
  receiptAt: 'instant',
} as const satisfies Readonly<Record<string, RuleType>>
export type DeviceField = keyof typeof deviceFields

export type Comparison = '==' | '!=' | '<' | '<=' | '>' | '>='
/** What a comparison is when its sides are turned about. */
export const mirrored: Readonly<Record<Comparison, Comparison>> = {
  '==': '==',
  '!=': '!=',
  '<': '>',
  '<=': '>=',
  '>': '<',
  '>=': '<=',
}
export type Arithmetic = '+' | '-' | '*' | '/' | '%'
export type TextTest = 'startsWith' | 'endsWith' | 'contains'
/** What became of notifications: handed over to a gateway, arrived on a device, opened there. */
export type ReceivedStep = 'rung' | 'received' | 'opened'

/** The parts that a checked rule can be made of. Instants are ms since the epoch, durations ms; both are whole. */
type Kinds =
  | { readonly is: 'constant'; readonly value: string | number | boolean }
  | { readonly is: 'now' }
  | { readonly is: 'attribute'; readonly name: string }
  | { readonly is: 'has-attribute'; readonly name: string }
  | { readonly is: 'field'; readonly name: DeviceField }
  | { readonly is: 'has-field'; readonly name: DeviceField }
  | { readonly is: 'and' | 'or'; readonly of: readonly [Term, Term] }
  | { readonly is: 'not'; readonly of: Term }
  | { readonly is: 'choose'; readonly when: Term; readonly then: Term; readonly otherwise: Term }
  | { readonly is: 'compare'; readonly how: Comparison; readonly left: Term; readonly right: Term }
  | { readonly is: 'among'; readonly of: Term; readonly list: readonly Term[] }
  | { readonly is: 'arithmetic'; readonly how: Arithmetic; readonly left: Term; readonly right: Term }
  | { readonly is: 'negate'; readonly of: Term }
  | { readonly is: 'size'; readonly of: Term }
  | { readonly is: 'text-test'; readonly how: TextTest; readonly of: Term; readonly what: Term }
  | { readonly is: 'version'; readonly of: Term }
  | {
      readonly is: 'near'
      readonly place: Term
      readonly longitude: number
      readonly latitude: number
      readonly metres: number
    }
  | { readonly is: 'follows'; readonly topic: string }
  | { readonly is: 'count'; readonly event: string; readonly withinMs: number; readonly each: Term | undefined }
  | { readonly is: 'first' | 'last'; readonly event: string }
  | { readonly is: 'told'; readonly what: ReceivedStep; readonly withinMs: number }
  | { readonly is: 'reached'; readonly name: string }
  | { readonly is: 'segment'; readonly name: string }
  /** Within the condition of a count: the occurrence's data, its type and source, and when it happened. */
  | { readonly is: 'data'; readonly path: readonly string[] }
  | { readonly is: 'has-data'; readonly path: readonly string[] }
  | { readonly is: 'occurrence'; readonly field: 'type' | 'source' | 'at' }

/** A part of a checked rule: what it is, the type of what it gives, and the part of the rule's tree that says so. */
export type Term = Kinds & { readonly type: RuleType; readonly expr: Expr }

/** All parts of a term, itself first. */
export function* partsOf(term: Term): Generator<Term> {
  yield term
  for (const inner of innerOf(term)) yield* partsOf(inner)
}

/** The parts directly below one. */
export function innerOf(term: Term): readonly Term[] {
  switch (term.is) {
    case 'and':
    case 'or':
      return term.of
    case 'not':
    case 'negate':
    case 'size':
    case 'version':
      return [term.of]
    case 'choose':
      return [term.when, term.then, term.otherwise]
    case 'compare':
    case 'arithmetic':
      return [term.left, term.right]
    case 'among':
      return [term.of, ...term.list]
    case 'text-test':
      return [term.of, term.what]
    case 'near':
      return [term.place]
    case 'count':
      return term.each ? [term.each] : []
    default:
      return []
  }
}
