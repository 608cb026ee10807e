import type { Explanation, ExplanationStep } from '@zbell/contract'
import { stepLooks } from '@zbell/contract/words'
import type { Io } from '../io.ts'
import { clauses } from './clauses.ts'
import type { Paint } from './paint.ts'
import { safe, wrap } from './text.ts'
import { moment } from './time.ts'

/** Sentences are broken where a terminal of the usual width ends. */
const width = 90

/** The whole way, step by step, with the verdict on top. */
export function drawExplanation({ verdict, about, devices, likely }: Explanation, io: Io, paint: Paint): string {
  const line = ({ says, verdict: how, at }: ExplanationStep) => {
    const [first = '', ...rest] = wrap(safe(says), width, 10)
    return (
      [`  ${stepLooks[how].shape} ${first}`, ...rest.map((text) => `    ${text}`)].join('\n') +
      (at ? `  ${paint.dim(moment(at, io))}` : '')
    )
  }
  const lines = [paint.strong(safe(verdict)), '', ...about.map(line)]
  for (const { device, platform, model, verdict: own, steps, rules } of devices) {
    lines.push('', `${paint.strong(`${safe(model ?? platform)}`)} (${platform})  ${paint.dim(device)}`)
    if (devices.length > 1) lines.push(`  ${safe(own)}`)
    lines.push(...steps.map(line), ...rules.flatMap((rule) => ['', ...ruleThen(rule, paint)]))
  }
  if (likely.length > 0)
    lines.push('', 'Most likely, in this order', ...likely.map((one, i) => `  ${i + 1}. ${safe(one)}`))
  return `${lines.join('\n')}\n`
}

type Rule = Explanation['devices'][number]['rules'][number]

/** What a rule of the target said of a device when it was sent. */
function ruleThen({ segment, rule, belongs, parts, changed }: Rule, paint: Paint): string[] {
  const said =
    belongs === true ? 'held' : belongs === false ? 'did not hold' : 'did not hold: what decides was not known'
  const name = segment === null ? 'The rule of the target' : `Segment ${safe(segment)}`
  const shown =
    parts.length > 0
      ? clauses(parts, paint).trimEnd().split('\n')
      : [`${safe(rule)} can no longer be evaluated: a segment that it names has changed.`]
  return [
    `  ${name} ${said}`,
    ...shown.map((text) => `    ${text}`),
    ...(changed.length > 0
      ? [paint.dim(`    set again since, and perhaps otherwise then: ${safe(changed.join(', '))}`)]
      : []),
  ]
}
