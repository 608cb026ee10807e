import type { Expr } from '@bufbuild/cel-spec/cel/expr/syntax_pb.js'
import { isTopicName } from '../targets/target.ts'
import { functions, instead, tells, textTests, untyped, variables, words } from './check-tables.ts'
import { durationOfText, instantOfText } from './duration-text.ts'
import { textOf } from './expr-parts.ts'
import { orNearest } from './fault.ts'
import { versionKey } from './numbers.ts'
import type { ReceivedStep, RuleType, Term, TextTest } from './term.ts'
import type { Vocabulary } from './vocabulary.ts'

/** What the check of a call needs of the check of the rule around it. */
export type Around = {
  readonly vocabulary: Vocabulary
  /** What an occurrence is called, within the condition of a count. */
  occurrence: string | undefined
  refuse(expr: Expr, says: string): undefined
  wanted(expr: Expr, type: RuleType, level: number): Term | undefined
  read(expr: Expr, level: number): Term | undefined
  element(expr: Expr): Term | undefined
}

/** Checks what is written as a call, each function with what it takes. */
export class FunctionChecks {
  readonly #on: Around

  constructor(on: Around) {
    this.#on = on
  }

  /** A call by name; what it is called on, if anything, is its target. */
  named(expr: Expr, name: string, target: Expr | undefined, args: readonly Expr[], level: number): Term | undefined {
    if (Object.hasOwn(instead, name)) return this.#on.refuse(expr, instead[name]!)
    if (!Object.hasOwn(functions, name))
      return this.#on.refuse(expr, `there is no function ${name}${orNearest(name, Object.keys(functions))}`)
    if (textTests.includes(name)) return this.#textTest(expr, name as TextTest, target, args, level)
    if (name === 'size') return this.#size(expr, target, args, level)
    if (target) return this.#on.refuse(expr, `${name} is written ${functions[name]}`)
    if (tells.includes(name)) return this.#told(expr, name as ReceivedStep, args)
    switch (name) {
      case 'follows':
        return this.#follows(expr, args)
      case 'count':
        return this.#count(expr, args, level)
      case 'first':
      case 'last': {
        const event = this.#text(expr, name, args, 1)
        return event === undefined ? undefined : { is: name, type: 'instant', event, expr }
      }
      case 'near':
        return this.#near(expr, args, level)
      case 'segment':
        return this.#segment(expr, args)
      case 'reached': {
        const notification = this.#text(expr, name, args, 1)
        return notification === undefined ? undefined : { is: name, type: 'boolean', name: notification, expr }
      }
      case 'version':
        return this.#version(expr, args, level)
      case 'duration':
      case 'timestamp':
        return this.#time(expr, name, args)
      default:
        return this.#on.refuse(expr, `${name} is written ${functions[name]}`)
    }
  }

  /** A text that stands there as it is; nothing that is only known of somebody. */
  #text(expr: Expr, name: string, args: readonly Expr[], count: number): string | undefined {
    const text = args[0] && textOf(args[0])
    if (args.length === count && text !== undefined && text.length > 0) return text
    return this.#on.refuse(args[0] ?? expr, `${name} is written ${functions[name]}`)
  }

  #window(name: string, expr: Expr | undefined, at: Expr): number | undefined {
    const { exprKind } = expr ?? at
    const text =
      exprKind.case === 'callExpr' && exprKind.value.function === 'duration' && exprKind.value.args[0]
        ? textOf(exprKind.value.args[0])
        : undefined
    if (text === undefined) return this.#on.refuse(expr ?? at, `${name} is written ${functions[name]}`)
    const ms = durationOfText(text)
    if (typeof ms === 'string') return this.#on.refuse(expr!, ms)
    if (ms <= 0) return this.#on.refuse(expr!, 'looks back for no time at all; a duration above zero is wanted')
    // What happened stays; what became of deliveries is pruned.
    const keptMs = name === 'count' ? undefined : this.#on.vocabulary.keptMs
    if (keptMs !== undefined && ms > keptMs)
      return this.#on.refuse(expr!, `reaches further back than is kept, which is ${Math.floor(keptMs / 3_600_000)}h`)
    return ms
  }

  #told(expr: Expr, what: ReceivedStep, args: readonly Expr[]): Term | undefined {
    if (args.length !== 1) return this.#on.refuse(expr, `${what} is written ${functions[what]}`)
    const withinMs = this.#window(what, args[0], expr)
    return withinMs === undefined ? undefined : { is: 'told', type: 'number', what, withinMs, expr }
  }

  #follows(expr: Expr, args: readonly Expr[]): Term | undefined {
    const topic = this.#text(expr, 'follows', args, 1)
    if (topic === undefined) return undefined
    if (!isTopicName(topic))
      return this.#on.refuse(args[0]!, 'is not a topic: small letters, digits, hyphens and dots, 64 at most')
    return { is: 'follows', type: 'boolean', topic, expr }
  }

  #count(expr: Expr, args: readonly Expr[], level: number): Term | undefined {
    if (this.#on.occurrence !== undefined)
      return this.#on.refuse(expr, 'a condition on what happened counts nothing itself')
    const event = this.#text(expr, 'count', args, args.length === 4 ? 4 : 2)
    const withinMs = event === undefined ? undefined : this.#window('count', args[1], expr)
    if (event === undefined || withinMs === undefined) return undefined
    if (args.length === 2) return { is: 'count', type: 'number', event, withinMs, each: undefined, expr }
    const { exprKind } = args[2]!
    const name = exprKind.case === 'identExpr' ? exprKind.value.name : undefined
    if (name === undefined || (variables as readonly string[]).includes(name))
      return this.#on.refuse(
        args[2]!,
        'what happened gets a name of its own, as in count("example.booked", duration("720h"), o, o.data.price > 20)',
      )
    this.#on.occurrence = name
    const each = this.#on.wanted(args[3]!, 'boolean', level)
    this.#on.occurrence = undefined
    return each && { is: 'count', type: 'number', event, withinMs, each, expr }
  }

  #near(expr: Expr, args: readonly Expr[], level: number): Term | undefined {
    if (args.length !== 4) return this.#on.refuse(expr, `near is written ${functions.near}`)
    const place = this.#on.read(args[0]!, level)
    const numbers = args.slice(1).map((one) => this.#on.element(one))
    if (!place || numbers.some((one) => one === undefined)) return undefined
    if (place.type !== 'place') return this.#on.refuse(args[0]!, `is ${words[place.type]} where a place is wanted`)
    const [longitude, latitude, metres] = numbers.map((one) => (one!.is === 'constant' ? one!.value : Number.NaN))
    if (typeof longitude !== 'number' || Math.abs(longitude) > 180)
      return this.#on.refuse(args[1]!, 'wants a longitude from -180 to 180; longitude comes first')
    if (typeof latitude !== 'number' || Math.abs(latitude) > 90)
      return this.#on.refuse(args[2]!, 'wants a latitude from -90 to 90; longitude comes first')
    if (typeof metres !== 'number' || metres < 0 || metres > 20_100_000)
      return this.#on.refuse(args[3]!, 'wants metres, from 0 to 20,100,000')
    return { is: 'near', type: 'boolean', place, longitude, latitude, metres, expr }
  }

  #segment(expr: Expr, args: readonly Expr[]): Term | undefined {
    const name = this.#text(expr, 'segment', args, 1)
    if (name === undefined) return undefined
    if (!this.#on.vocabulary.segments.has(name))
      return this.#on.refuse(
        args[0]!,
        `there is no segment ${name}${orNearest(name, [...this.#on.vocabulary.segments])}`,
      )
    return { is: 'segment', type: 'boolean', name, expr }
  }

  #version(expr: Expr, args: readonly Expr[], level: number): Term | undefined {
    const of =
      args.length === 1
        ? this.#on.wanted(args[0]!, 'text', level)
        : this.#on.refuse(expr, `version is written ${functions.version}`)
    if (of?.type === 'any') return this.#on.refuse(args[0]!, untyped)
    if (of?.is === 'constant' && versionKey(String(of.value)) === undefined)
      return this.#on.refuse(args[0]!, 'is no version: one to four numbers with dots between, such as "4.2.0"')
    return of && { is: 'version', type: 'version', of, expr }
  }

  #time(expr: Expr, name: 'duration' | 'timestamp', args: readonly Expr[]): Term | undefined {
    const text = this.#text(expr, name, args, 1)
    if (text === undefined) return undefined
    const value = name === 'duration' ? durationOfText(text) : instantOfText(text)
    if (typeof value === 'string') return this.#on.refuse(args[0]!, value)
    return { is: 'constant', type: name === 'duration' ? 'duration' : 'instant', value, expr }
  }

  #textTest(
    expr: Expr,
    how: TextTest,
    target: Expr | undefined,
    args: readonly Expr[],
    level: number,
  ): Term | undefined {
    if (!target || args.length !== 1) return this.#on.refuse(expr, `${how} is written ${functions[how]}`)
    const of = this.#on.wanted(target, 'text', level)
    const what = this.#on.wanted(args[0]!, 'text', level)
    if (!of || !what) return undefined
    if (what.type === 'any') return this.#on.refuse(args[0]!, untyped)
    return { is: 'text-test', type: 'boolean', how, of, what, expr }
  }

  #size(expr: Expr, target: Expr | undefined, args: readonly Expr[], level: number): Term | undefined {
    const all = [...(target ? [target] : []), ...args]
    const of =
      all.length === 1
        ? this.#on.wanted(all[0]!, 'text', level)
        : this.#on.refuse(expr, `size is written ${functions.size}`)
    if (of?.type === 'any') return this.#on.refuse(all[0]!, untyped)
    return of && { is: 'size', type: 'number', of, expr }
  }
}
