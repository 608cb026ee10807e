import type { RuleExplanation } from '@zbell/contract'
import { type Column, DataTable } from '../parts/data-table.tsx'

type Part = RuleExplanation['parts'][number]

const words = (verdict: boolean | null) =>
  verdict === true
    ? { tone: 'text-sea', says: '● yes' }
    : verdict === false
      ? { tone: 'text-red', says: '✕ no' }
      : { tone: 'text-soft', says: '– not known' }

const columns: readonly Column<Part>[] = [
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
    cell: ({ text }) => <code className="font-mono text-sm">{text}</code>,
  },
  { name: 'value', title: 'What is known', always: true, cell: ({ value }) => <bdi>{value ?? ''}</bdi> },
]

/** The clauses of a rule, each with what was found for it and whether it holds. */
export function Clauses({ parts, label }: { readonly parts: readonly Part[]; readonly label: string }) {
  return <DataTable label={label} name="clauses" rows={parts} idOf={({ text }) => text} columns={columns} />
}
