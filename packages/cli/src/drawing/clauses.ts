import type { RuleExplanation } from '@zbell/contract'
import type { Paint } from './paint.ts'
import { table } from './table.ts'
import { safe } from './text.ts'

/** The clauses of a rule, each with what was found for it and whether it holds; what is nested in one stands below it, indented. */
export const clauses = (parts: RuleExplanation['parts'], paint: Paint): string =>
  table(
    ['', 'clause', 'is'],
    parts.map(({ text, value, verdict, depth }) => [
      mark(verdict, paint),
      `${'  '.repeat(depth)}${safe(text)}`,
      safe(value ?? ''),
    ]),
    paint.dim,
  )

const mark = (verdict: boolean | null, paint: Paint): string =>
  verdict === true ? paint.good('yes') : verdict === false ? paint.bad('no') : paint.dim('not known')
