import { permissions, platforms } from '../devices/device.ts'
import type { CheckedRule } from './check-rule.ts'
import { orNearest, placeIn, type RuleFault } from './fault.ts'
import { partsOf, type Term } from './term.ts'

/** Facts of a device that are one of a few words. */
const wordsOf: { readonly [field: string]: readonly string[] } = { platform: platforms, permission: permissions }

/**
 * What in a rule can never be, though it means something: a word that a fact never is, and a topic that nobody has declared or
 * joined.
 * @param topics those of the app
 */
export function ruleWarnings(
  { term, text, positions }: Pick<CheckedRule, 'term' | 'text' | 'positions'>,
  topics: readonly string[],
): RuleFault[] {
  const warnings: RuleFault[] = []
  const warn = ({ expr }: Term, says: string) => {
    warnings.push({ ...placeIn(text, positions[String(expr.id)] ?? 0), says })
  }
  for (const part of partsOf(term)) {
    if (part.is === 'follows' && !topics.includes(part.topic))
      warn(part, `nobody has declared or joined the topic ${part.topic}${orNearest(part.topic, topics)}`)
    for (const [field, constant] of heldAgainst(part)) {
      const words = field.is === 'field' ? wordsOf[field.name] : undefined
      if (!words || constant.is !== 'constant' || words.includes(String(constant.value))) continue
      const name = field.is === 'field' ? field.name : ''
      warn(
        constant,
        `a device’s ${name} is never “${constant.value}”, but ${words.join(', ')}${orNearest(String(constant.value), words)}`,
      )
    }
  }
  return warnings
}

/** What is compared with what, both ways about. */
function heldAgainst(part: Term): (readonly [Term, Term])[] {
  if (part.is === 'compare')
    return [
      [part.left, part.right],
      [part.right, part.left],
    ]
  return part.is === 'among' ? part.list.map((one) => [part.of, one] as const) : []
}
