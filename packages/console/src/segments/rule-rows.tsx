import type { RuleWords } from '@zbell/contract'
import { isWhole, type RuleGroup, type RuleRow } from '@zbell/core/rule-rows'
import { Group, X } from 'lucide-react'
import { useMemo, useState } from 'react'
import { Button, IconButton } from '../parts/button.tsx'
import { Combobox } from '../parts/combobox.tsx'
import { Select } from '../parts/select.tsx'
import { FactControls, NamedControls, NearControls, TimesControls } from './row-controls.tsx'
import { subjectIn, subjectsOf } from './row-subjects.ts'

type GroupProps = {
  readonly group: RuleGroup
  readonly words: RuleWords
  readonly onChange: (group: RuleGroup) => void
  /** Removes it from the group that it lies in. */
  readonly onRemove?: (() => void) | undefined
  readonly level?: number
}

const connectives = [
  { value: 'all', label: 'All of these hold' },
  { value: 'any', label: 'Any of these holds' },
  { value: 'not all', label: 'Not all of these hold' },
  { value: 'not any', label: 'None of these holds' },
] as const
/** Deeper groups can be read, but are not begun here: nobody would find their way in them. */
const deepest = 3

/** A rule as rows, for those who write no CEL. */
export default function RuleRows({ group, words, onChange, onRemove, level = 1 }: GroupProps) {
  const { how, not, rows } = group
  const change = (at: number, row: RuleRow | undefined) =>
    onChange({ ...group, rows: rows.flatMap((one, i) => (i !== at ? [one] : row ? [row] : [])) })
  const add = (row: RuleRow) => onChange({ ...group, rows: [...rows, row] })
  return (
    <fieldset
      aria-label={level === 1 ? 'Rows' : 'Group'}
      className={`grid gap-2 ${level > 1 ? 'border-s-2 border-line ps-3' : ''}`}
    >
      <div className="flex items-center gap-2">
        <Select
          label="How they belong together"
          className="w-60"
          value={`${not ? 'not ' : ''}${how}` as (typeof connectives)[number]['value']}
          options={connectives}
          onChange={(now) =>
            onChange({ ...group, not: now.startsWith('not'), how: now.endsWith('any') ? 'any' : 'all' })
          }
        />
        {onRemove && <IconButton icon={X} label="Remove the group" onClick={onRemove} />}
      </div>
      {rows.map((row, i) => {
        const remove = () => change(i, undefined)
        return row.is === 'group' ? (
          <RuleRows
            // biome-ignore lint/suspicious/noArrayIndexKey: a row has nothing but its place
            key={i}
            group={row}
            words={words}
            level={level + 1}
            onChange={(now) => change(i, now)}
            onRemove={remove}
          />
        ) : (
          // biome-ignore lint/suspicious/noArrayIndexKey: a row has nothing but its place
          <Line key={i} row={row} words={words} onChange={(now) => change(i, now)} onRemove={remove} />
        )
      })}
      <div className="flex flex-wrap items-center gap-2">
        <AddRow words={words} onAdd={add} />
        {level < deepest && (
          <Button rank="quiet" icon={Group} onClick={() => add({ is: 'group', how: 'any', not: false, rows: [] })}>
            Add a group
          </Button>
        )}
      </div>
    </fieldset>
  )
}

type AddProps = { readonly words: RuleWords; readonly onAdd: (row: RuleRow) => void }

function AddRow({ words, onAdd }: AddProps) {
  const [typed, setTyped] = useState('')
  const subjects = useMemo(() => subjectsOf(words), [words])
  const wanted = typed.trim().toLowerCase()
  return (
    <div className="w-64">
      <Combobox
        label="Add a row"
        placeholder="Add what has to hold …"
        chosen={undefined}
        found={subjects.filter(({ label, note }) => `${label} ${note}`.toLowerCase().includes(wanted))}
        typed={typed}
        onType={setTyped}
        none="Nothing here is called so."
        onChange={({ value }) => {
          const subject = subjects.find((one) => one.value === value)
          if (subject) onAdd(subject.row)
          setTyped('')
        }}
      />
    </div>
  )
}

type LineProps = {
  readonly row: Exclude<RuleRow, RuleGroup>
  readonly words: RuleWords
  readonly onChange: (row: RuleRow) => void
  readonly onRemove: () => void
}

function Line({ row, words, onChange, onRemove }: LineProps) {
  const subject = subjectIn(row)
  return (
    <fieldset
      aria-label={subject}
      className="flex flex-wrap items-center gap-2 rounded-control border border-line bg-surface px-2 py-1.5"
    >
      <span className="min-w-24 font-semibold break-words">
        <bdi>{subject}</bdi>
      </span>
      <Controls row={row} words={words} onChange={onChange} />
      <IconButton icon={X} label={`Remove ${subject}`} className="ms-auto" onClick={onRemove} />
      {!isWhole(row) && <p className="w-full text-sm text-soft">Says nothing yet: something is missing.</p>}
    </fieldset>
  )
}

function Controls({ row, words, onChange }: Omit<LineProps, 'onRemove'>) {
  switch (row.is) {
    case 'fact':
      return <FactControls row={row} words={words} onChange={onChange} />
    case 'times':
      return <TimesControls row={row} onChange={onChange} />
    case 'named':
      return <NamedControls row={row} words={words} onChange={onChange} />
    case 'near':
      return <NearControls row={row} onChange={onChange} />
    case 'text':
      return (
        <span className="grid min-w-48 flex-1 gap-1">
          <textarea
            aria-label="In CEL"
            className="font-mono text-sm"
            rows={Math.min(4, Math.ceil(row.rule.length / 60) || 1)}
            dir="ltr"
            spellCheck={false}
            value={row.rule}
            onChange={(event) => onChange({ ...row, rule: event.target.value })}
          />
          <span className="text-sm text-soft">No row can show this; it stays as it is written.</span>
        </span>
      )
    default:
      return row satisfies never
  }
}
