import type { RuleExplanation } from '@zbell/contract'
import { type Column, DataTable } from '../parts/data-table.tsx'

type Part = RuleExplanation['parts'][number]

const words = (verdict: boolean | null) =>
  verdict === true
    ? { tone: 'text-sea', says: '● yes' }
    : verdict === false
      ? { tone: 'text-red', says: '✕ no' }
      : { tone: 'text-soft', says: '– not known' }

/** Deeper than so no part is moved further to the right. */
const indents = ['', 'pl-5', 'pl-10', 'pl-15', 'pl-20']

const columns: readonly Column<Part & { readonly at: number }>[] = [
  {
    name: 'verdict',
    title: 'Holds',
    always: true,
    width: 130,
    cell: ({ verdict }) => <span className={`whitespace-nowrap ${words(verdict).tone}`}>{words(verdict).says}</span>,
  },
  {
    name: 'clause',
    title: 'Clause',
    always: true,
    cell: ({ text, depth }) => (
      <code className={`block font-mono text-sm ${indents[Math.min(depth, indents.length - 1)]}`}>{text}</code>
    ),
  },
  { name: 'value', title: 'What is known', always: true, cell: ({ value }) => <bdi>{value ?? ''}</bdi> },
]

/** The clauses of a rule, each with what was found for it and whether it holds; what is nested in one stands below it. */
export function Clauses({ parts, label }: { readonly parts: readonly Part[]; readonly label: string }) {
  // The same clause may stand in a rule and in a segment that it names.
  const rows = parts.map((part, at) => ({ ...part, at }))
  return <DataTable label={label} name="clauses" rows={rows} idOf={({ at }) => String(at)} columns={columns} />
}
