import type { Constant, Expr, Expr_Call } from '@bufbuild/cel-spec/cel/expr/syntax_pb.js'
import { type Around, FunctionChecks } from './check-functions.ts'
import { arithmetics, comparisons, functions, ordered, untyped, variables, words } from './check-tables.ts'
import { rootOf, stepOf, textOf } from './expr-parts.ts'
import { orNearest, placeIn, type RuleFault, RuleRefused } from './fault.ts'
import { type ReadRule, readRule, ruleLimits } from './read-rule.ts'
import {
  type Arithmetic,
  type Comparison,
  type DeviceField,
  deviceFields,
  innerOf,
  type RuleType,
  type Term,
} from './term.ts'
import type { Vocabulary } from './vocabulary.ts'

/** A rule whose every part has a meaning and a type. */
export type CheckedRule = ReadRule & { readonly term: Term }

/**
 * Reads a rule and checks each part against what is declared.
 * @throws {RuleRefused} with every fault that was found, each in its place
 */
export function checkRule(text: string, vocabulary: Vocabulary): CheckedRule {
  const read = readRule(text)
  const checker = new Checker(read, vocabulary)
  const term = checker.whole()
  if (term === undefined || checker.faults.length > 0) throw new RuleRefused(checker.faults)
  return { ...read, term }
}

class Checker implements Around {
  readonly faults: RuleFault[] = []
  readonly #rule: ReadRule
  readonly vocabulary: Vocabulary
  readonly #functions = new FunctionChecks(this)
  #nodes = 0
  #isTooMuch = false
  /** What an occurrence is called, within the condition of a count. */
  occurrence: string | undefined

  constructor(rule: ReadRule, vocabulary: Vocabulary) {
    this.#rule = rule
    this.vocabulary = vocabulary
  }

  whole(): Term | undefined {
    return this.wanted(this.#rule.expr, 'boolean', 1)
  }

  /** Notes a fault, and gives nothing: whatever is around it has no fault of its own for that. */
  refuse(expr: Expr, says: string): undefined {
    if (this.faults.length < 20) this.faults.push({ ...placeIn(this.#rule.text, this.#startOf(expr)), says })
    return undefined
  }

  /** Where a part begins: an operator stands after what is left of it. */
  #startOf(expr: Expr): number {
    const own = this.#rule.positions[String(expr.id)] ?? 0
    const { exprKind } = expr
    if (exprKind.case === 'callExpr') {
      const first = exprKind.value.target ?? exprKind.value.args[0]
      return first && /^_.+_$/.test(exprKind.value.function) ? Math.min(own, this.#startOf(first)) : own
    }
    if (exprKind.case === 'selectExpr' && exprKind.value.operand)
      return Math.min(own, this.#startOf(exprKind.value.operand))
    return own
  }

  /** A part that has to give a type. */
  wanted(expr: Expr, type: RuleType, level: number): Term | undefined {
    const term = this.read(expr, level)
    if (term === undefined || term.type === type || term.type === 'any') return term
    return this.refuse(expr, `is ${words[term.type]} where ${words[type]} is wanted`)
  }

  read(expr: Expr, level: number): Term | undefined {
    if (!this.#another(expr)) return undefined
    if (level > ruleLimits.levels) return this.refuse(expr, `lies more than ${ruleLimits.levels} levels deep`)
    const { exprKind } = expr
    switch (exprKind.case) {
      case 'constExpr':
        return this.#constant(expr, exprKind.value)
      case 'identExpr':
        return this.#variable(expr, exprKind.value.name)
      case 'selectExpr':
        return this.#member(expr, exprKind.value.operand!, exprKind.value.field, exprKind.value.testOnly)
      case 'callExpr':
        return this.#call(expr, exprKind.value, level + 1)
      case 'listExpr':
        return this.refuse(expr, 'a list can only stand after “in”')
      case 'structExpr':
        return this.refuse(expr, 'a rule makes no maps and no messages')
      case 'comprehensionExpr':
        return this.refuse(expr, 'a rule goes through no lists; to count what happened use count(…)')
      default:
        return this.refuse(expr, 'is nothing that a rule can say')
    }
  }

  /** Counts a part, of which there are only so many. */
  #another(expr: Expr): boolean {
    this.#nodes++
    if (this.#nodes <= ruleLimits.nodes) return true
    if (!this.#isTooMuch) this.refuse(expr, `the rule has more than ${ruleLimits.nodes} parts`)
    this.#isTooMuch = true
    return false
  }

  #constant(expr: Expr, { constantKind: { case: kind, value } }: Constant): Term | undefined {
    switch (kind) {
      case 'boolValue':
        return { is: 'constant', type: 'boolean', value, expr }
      case 'stringValue':
        return value.includes('\0')
          ? this.refuse(expr, 'a text cannot have the character U+0000')
          : { is: 'constant', type: 'text', value, expr }
      case 'doubleValue':
      case 'int64Value':
        return Number.isFinite(Number(value))
          ? { is: 'constant', type: 'number', value: Number(value), expr }
          : this.refuse(expr, 'is larger than a number can be')
      case 'nullValue':
        return this.refuse(expr, 'nothing is equal to null here; ask has(user.pass) whether it is known')
      default:
        return this.refuse(
          expr,
          'a rule knows texts, numbers, true and false; there are no bytes and no unsigned numbers',
        )
    }
  }

  #variable(expr: Expr, name: string): Term | undefined {
    if (name === 'now') return { is: 'now', type: 'instant', expr }
    if (name === this.occurrence)
      return this.refuse(expr, `names what happened; ask for ${name}.data.price or ${name}.at`)
    if (name === 'user') return this.refuse(expr, 'the user is no value; ask for an attribute, such as user.pass')
    if (name === 'device')
      return this.refuse(expr, 'the device is no value; ask for one of its facts, such as device.platform')
    const known = [...variables, ...(this.occurrence ? [this.occurrence] : [])]
    return this.refuse(
      expr,
      `${name} is no name that a rule knows${orNearest(name, [...known, ...Object.keys(functions)])}`,
    )
  }

  #member(expr: Expr, operand: Expr, field: string, asks: boolean): Term | undefined {
    if (!this.#another(expr)) return undefined
    const root = rootOf(operand)
    if (root === 'user') return this.#attribute(expr, field, asks)
    if (root === 'device') return this.#deviceField(expr, field, asks)
    const path = this.#pathOf(expr)
    if (path) return this.#ofOccurrence(expr, path, asks)
    // An attribute has no members; whatever is wrong further left is said there.
    const before = this.read(operand, 1)
    return before && this.refuse(expr, `${words[before.type]} has no member ${field}`)
  }

  #attribute(expr: Expr, name: string, asks: boolean): Term | undefined {
    const type = this.vocabulary.attributes.get(name)
    if (type === undefined) {
      const nearest = orNearest(name, [...this.vocabulary.attributes.keys()])
      return this.refuse(expr, `no attribute ${name} is known${nearest}`)
    }
    return asks ? { is: 'has-attribute', type: 'boolean', name, expr } : { is: 'attribute', type, name, expr }
  }

  #deviceField(expr: Expr, name: string, asks: boolean): Term | undefined {
    if (!Object.hasOwn(deviceFields, name))
      return this.refuse(expr, `a device has no ${name}${orNearest(name, Object.keys(deviceFields))}`)
    const field = name as DeviceField
    return asks
      ? { is: 'has-field', type: 'boolean', name: field, expr }
      : { is: 'field', type: deviceFields[field], name: field, expr }
  }

  /** The members that lead from the occurrence to here. */
  #pathOf(expr: Expr): string[] | undefined {
    const { exprKind } = expr
    if (exprKind.case === 'identExpr') return exprKind.value.name === this.occurrence ? [] : undefined
    const step = stepOf(expr)
    const before = step && this.#pathOf(step.operand)
    return before && [...before, step.field]
  }

  #ofOccurrence(expr: Expr, [first = '', ...path]: readonly string[], asks: boolean): Term | undefined {
    if (first === 'data' && path.length > 0)
      return asks ? { is: 'has-data', type: 'boolean', path, expr } : { is: 'data', type: 'any', path, expr }
    if (path.length === 0 && !asks && (first === 'type' || first === 'source'))
      return { is: 'occurrence', type: 'text', field: first, expr }
    if (path.length === 0 && !asks && first === 'at') return { is: 'occurrence', type: 'instant', field: first, expr }
    return this.refuse(expr, `what happened has data.…, at, type and source, and no ${first}`)
  }

  #call(expr: Expr, call: Expr_Call, level: number): Term | undefined {
    const { function: name, args, target } = call
    const [a, b, c] = args
    if (Object.hasOwn(comparisons, name)) return this.#compare(expr, comparisons[name]!, a!, b!, level)
    if (Object.hasOwn(arithmetics, name)) return this.#arithmetic(expr, arithmetics[name]!, a!, b!, level)
    switch (name) {
      case '_&&_':
      case '_||_':
        return this.#both(expr, name === '_&&_' ? 'and' : 'or', a!, b!, level)
      case '!_': {
        const of = this.wanted(a!, 'boolean', level)
        return of && { is: 'not', type: 'boolean', of, expr }
      }
      case '-_':
        return this.#negate(expr, a!, level)
      case '_?_:_':
        return this.#choose(expr, [a!, b!, c!], level)
      case '@in':
        return this.#in(expr, a!, b!, level)
      case '_[_]':
        return this.#index(expr, a!, b!)
      default:
        return this.#functions.named(expr, name, target, args, level)
    }
  }

  #both(expr: Expr, is: 'and' | 'or', a: Expr, b: Expr, level: number): Term | undefined {
    const left = this.wanted(a, 'boolean', level)
    const right = this.wanted(b, 'boolean', level)
    return left && right && { is, type: 'boolean', of: [left, right], expr }
  }

  #compare(expr: Expr, how: Comparison, a: Expr, b: Expr, level: number): Term | undefined {
    const left = this.read(a, level)
    const right = this.read(b, level)
    if (!left || !right) return undefined
    if (left.type === 'any' && right.type === 'any')
      return this.refuse(b, 'both sides come from the data; one of them has to have a type of its own')
    const type = left.type === 'any' ? right.type : left.type
    if (right.type !== type && right.type !== 'any')
      return this.refuse(b, `${words[right.type]} cannot be compared with ${words[type]}`)
    if (!ordered.includes(type)) return this.refuse(a, `${words[type]} cannot be compared; use near(…)`)
    if ((left.type === 'any' || right.type === 'any') && !['text', 'number', 'boolean'].includes(type))
      return this.refuse(expr, `the data has texts, numbers, true and false; ${words[type]} is none`)
    return { is: 'compare', type: 'boolean', how, left, right, expr }
  }

  #arithmetic(expr: Expr, how: Arithmetic, a: Expr, b: Expr, level: number): Term | undefined {
    const left = this.read(a, level)
    const right = this.read(b, level)
    if (!left || !right) return undefined
    const type = resultOf(how, left.type, right.type)
    if (type === undefined) return this.refuse(expr, `${words[left.type]} ${how} ${words[right.type]} gives nothing`)
    if (depthOf(left) >= ruleLimits.calculations || depthOf(right) >= ruleLimits.calculations)
      return this.refuse(expr, `calculations lie ${ruleLimits.calculations} deep at most`)
    return { is: 'arithmetic', type, how, left, right, expr }
  }

  #negate(expr: Expr, a: Expr, level: number): Term | undefined {
    const of = this.wanted(a, 'number', level)
    if (of?.is === 'constant') return { ...of, value: -(of.value as number), expr }
    return of && (of.type === 'any' ? this.refuse(a, untyped) : { is: 'negate', type: 'number', of, expr })
  }

  #choose(expr: Expr, [a, b, c]: readonly [Expr, Expr, Expr], level: number): Term | undefined {
    const when = this.wanted(a, 'boolean', level)
    const then = this.read(b, level)
    const otherwise = this.read(c, level)
    if (!when || !then || !otherwise) return undefined
    if (then.type === 'any') return this.refuse(b, untyped)
    if (then.type !== otherwise.type)
      return this.refuse(c, `is ${words[otherwise.type]} where the other case gives ${words[then.type]}`)
    return { is: 'choose', type: then.type, when, then, otherwise, expr }
  }

  #in(expr: Expr, a: Expr, b: Expr, level: number): Term | undefined {
    const { exprKind } = b
    const root = rootOf(b)
    if (root === 'user' || root === 'device') {
      const name = textOf(a)
      if (name === undefined) return this.refuse(a, `before “in ${root}” stands a name, such as "pass"`)
      return root === 'user' ? this.#attribute(expr, name, true) : this.#deviceField(expr, name, true)
    }
    if (exprKind.case !== 'listExpr') {
      this.read(b, level)
      return this.refuse(b, 'after “in” stands a list, such as ["weekly", "season"], or user')
    }
    const of = this.read(a, level)
    const { elements } = exprKind.value
    if (elements.length > ruleLimits.list) return this.refuse(b, `a list has ${ruleLimits.list} values at most`)
    // Its values are told apart by nothing but themselves, so they count as one part together.
    const list = elements.map((one) => this.element(one))
    if (!of || list.some((one) => one === undefined)) return undefined
    const type = of.type === 'any' ? (list[0]?.type ?? 'any') : of.type
    const other = list.findIndex((one) => one!.type !== type)
    if (other >= 0) return this.refuse(elements[other]!, `is ${words[list[other]!.type]} in a list for ${words[type]}`)
    return { is: 'among', type: 'boolean', of, list: list as Term[], expr }
  }

  element(expr: Expr): Term | undefined {
    const { exprKind } = expr
    const minus = exprKind.case === 'callExpr' && exprKind.value.function === '-_' ? exprKind.value.args[0] : undefined
    const constant = (minus ?? expr).exprKind
    if (constant.case !== 'constExpr') return this.refuse(expr, 'a list has only texts, numbers, true and false')
    const term = this.#constant(expr, constant.value)
    return term?.is === 'constant' && minus && typeof term.value === 'number' ? { ...term, value: -term.value } : term
  }

  #index(expr: Expr, a: Expr, b: Expr): Term | undefined {
    if (!this.#another(expr)) return undefined
    const root = rootOf(a)
    const name = textOf(b)
    if (root === 'user' || root === 'device') {
      if (name === undefined) return this.refuse(b, 'between the brackets stands a name, such as ["home-pier"]')
      return root === 'user' ? this.#attribute(expr, name, false) : this.#deviceField(expr, name, false)
    }
    const path = this.#pathOf(expr)
    return path
      ? this.#ofOccurrence(expr, path, false)
      : this.refuse(expr, 'only user, device and data are asked by a name in brackets')
  }
}

/** How deep calculations lie in one another. */
function depthOf(term: Term): number {
  const below = Math.max(0, ...innerOf(term).map(depthOf))
  return term.is === 'arithmetic' ? below + 1 : below
}

/** The type of a calculation, where there is one. */
function resultOf(how: Arithmetic, left: RuleType, right: RuleType): RuleType | undefined {
  if (left === 'number' && right === 'number') return 'number'
  if (how === '+') {
    if (left === 'text' && right === 'text') return 'text'
    if (left === 'duration' && right === 'duration') return 'duration'
    if ((left === 'instant' && right === 'duration') || (left === 'duration' && right === 'instant')) return 'instant'
  }
  if (how === '-') {
    if (left === 'instant' && right === 'instant') return 'duration'
    if (left === 'instant' && right === 'duration') return 'instant'
    if (left === 'duration' && right === 'duration') return 'duration'
  }
  return undefined
}
