import { useQuery } from '@tanstack/react-query'
import type { RuleWords } from '@zbell/contract'
import { ProblemError } from '@zbell/contract/client'
import { lazy, Suspense, useMemo, useState } from 'react'
import type { api } from '../app/api.ts'
import { keys } from '../app/live.ts'
import { usePlace } from '../app/place.ts'
import { useRested } from '../app/use-rested.ts'
import { Button } from '../parts/button.tsx'
import { CodeText, type TextFault } from '../parts/code-text.tsx'
import { Field } from '../parts/field.tsx'
import { Waiting } from '../parts/page.tsx'
import { useRuleWords } from './rule-words.ts'

type RuleFieldProps = { readonly value: string; readonly onChange: (rule: string) => void }

/** A rule while it is written: its names are offered, its faults marked in their places, and whoever it has is counted. */
export function RuleField({ value, onChange }: RuleFieldProps) {
  const place = usePlace()
  const words = useRuleWords()
  const names = useMemo(() => (words?.attributes ?? []).map(({ name, type }) => ({ name, note: type })), [words])
  const rule = useRested(value.trim())
  const [exactly, setExactly] = useState('')
  const exact = exactly === rule
  const count = useQuery({
    queryKey: [...keys.segments(place), 'count', rule, exact],
    queryFn: ({ signal }) => place.call('countRule', { body: { rule, exact }, signal }),
    enabled: rule !== '',
    retry: false,
    placeholderData: (before) => before,
  })
  const problem = count.error instanceof ProblemError ? count.error.problem : undefined
  const faults = useMemo(() => placedIn(problem?.errors), [problem])
  const says = rule === '' ? undefined : faults[0]?.says
  return (
    <div className="grid gap-x-8 gap-y-3 xl:grid-cols-[3fr_2fr] xl:items-start">
      <RowsOf rule={value} words={words} onChange={onChange} />
      <div className="grid gap-3">
        <Field
          label="Rule"
          hint="A condition in CEL; user., device. and functions are offered as you type"
          fault={says}
        >
          {(control) => (
            <CodeText
              {...control}
              label="Rule"
              language="rule"
              value={value}
              onChange={onChange}
              names={names}
              faults={rule === '' ? undefined : faults}
            />
          )}
        </Field>
        <p className="text-sm text-soft" aria-live="polite">
          {rule === ''
            ? 'Write a condition, and this line counts who it has.'
            : count.error
              ? says === undefined
                ? (problem?.detail ?? 'It cannot be counted at this moment.')
                : 'It will be counted once the rule is valid.'
              : count.data
                ? ''
                : 'Counting …'}
          {count.data && !count.error && <Counted count={count.data} />}
          {count.error
            ? undefined
            : count.data?.warnings.map(({ line, column, says: warning }) => (
                <span key={`${line} ${column}`} className="block text-amber">
                  ▲ Column {column}
                  {line > 1 && ` of line ${line}`}: {warning}.
                </span>
              ))}
          {count.data?.estimated && !count.error && (
            <Button rank="quiet" busy={exact && count.isFetching} onClick={() => setExactly(rule)}>
              Count exactly
            </Button>
          )}
        </p>
      </div>
    </div>
  )
}

const RuleRows = lazy(() => import('./rule-rows-of.tsx'))

type RowsOfProps = {
  readonly rule: string
  readonly words: RuleWords | undefined
  readonly onChange: (rule: string) => void
}

/** The same rule as rows, which follow the text and are followed by it. */
function RowsOf({ rule, words, onChange }: RowsOfProps) {
  return (
    <section aria-label="The rule as rows" className="grid gap-1">
      <p className="font-semibold">Rows</p>
      {words && (
        <Suspense fallback={<Waiting />}>
          <RuleRows rule={rule} words={words} onChange={onChange} />
        </Suspense>
      )}
    </section>
  )
}

type Count = Awaited<ReturnType<typeof api.call<'countRule'>>>

function Counted({
  count: { estimated, people, devices, reachable, perPlatform, examples },
}: {
  readonly count: Count
}) {
  const platforms = Object.entries(perPlatform).filter(([, number]) => number > 0)
  const some = [...new Set(examples.map(({ user }) => user ?? 'somebody without a name'))]
  return (
    <>
      <strong className="text-ink">
        {estimated && 'About '}
        {people.toLocaleString('en')} {people === 1 ? 'person' : 'people'}
      </strong>
      , {devices.toLocaleString('en')} {devices === 1 ? 'device' : 'devices'}
      {platforms.length > 0 && ` (${platforms.map(([name, n]) => `${name} ${n.toLocaleString('en')}`).join(', ')})`};{' '}
      {reachable.toLocaleString('en')} can be rung{some.length > 0 && `. Such as ${some.join(', ')}`}.
    </>
  )
}

const placedIn = (errors: ProblemError['problem']['errors']): readonly TextFault[] =>
  (errors ?? []).flatMap(({ line, column, detail }) =>
    line === undefined || column === undefined ? [] : [{ line, column, says: detail }],
  )
