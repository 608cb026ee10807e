import type { RuleWords } from '@zbell/contract'
import { noRows, type RuleGroup, rowsOfRule, ruleOfRows } from '@zbell/core/rule-rows'
import { useState } from 'react'
import RuleRows from './rule-rows.tsx'

type Props = {
  readonly rule: string
  readonly words: RuleWords
  readonly onChange: (rule: string) => void
}

/**
 * Rows beside the text of a rule. What is changed in them is written into the text; a text that somebody else changed is read
 * anew. While it cannot be read, the rows stay as they were.
 */
export default function RuleRowsOf({ rule, words, onChange }: Props) {
  const [kept, setKept] = useState<{ readonly rule: string; readonly rows: RuleGroup; readonly isOld: boolean }>()
  let shown = kept
  if (kept?.rule !== rule) {
    const rows = rowsOfRule(rule)
    shown = { rule, rows: rows ?? kept?.rows ?? noRows, isOld: rows === undefined }
    setKept(shown)
  }
  if (shown === undefined) return null
  return (
    <div className="grid gap-2">
      {shown.isOld && (
        <p className="text-sm text-soft" aria-live="polite">
          The text cannot be read at this moment; the rows show it as it was, and follow once it can.
        </p>
      )}
      <fieldset disabled={shown.isOld} className={shown.isOld ? 'opacity-55' : ''}>
        <RuleRows
          group={shown.rows}
          words={words}
          onChange={(rows) => {
            const written = ruleOfRows(rows)
            setKept({ rule: written, rows, isOld: false })
            onChange(written)
          }}
        />
      </fieldset>
    </div>
  )
}
