import { useQuery } from '@tanstack/react-query'
import { ProblemError } from '@zbell/contract/client'
import { useEffect, useMemo, useState } from 'react'
import { api } from '../app/api.ts'
import { keys } from '../app/live.ts'
import { usePlace } from '../app/place.ts'
import { CodeText, type TextFault } from '../parts/code-text.tsx'
import { Field } from '../parts/field.tsx'

type RuleFieldProps = { readonly value: string; readonly onChange: (rule: string) => void }

/** So long somebody rests before what they wrote is counted. */
const restMs = 350

/** What is written, once its writer rests. */
function useRested(text: string): string {
  const [rested, setRested] = useState(text)
  useEffect(() => {
    const timer = setTimeout(() => setRested(text), restMs)
    return () => clearTimeout(timer)
  }, [text])
  return rested
}

/** A rule while it is written: its names are offered, its faults marked in their places, and whoever it has is counted. */
export function RuleField({ value, onChange }: RuleFieldProps) {
  const place = usePlace()
  const at = { params: { app: place.app.slug }, query: { environment: place.environment } }
  const attributes = useQuery({
    queryKey: [...keys.people(place), 'attributes'],
    queryFn: () => api.call('listAttributes', at),
  })
  const names = useMemo(
    () => (attributes.data?.items ?? []).map(({ name, type }) => ({ name, note: type })),
    [attributes.data],
  )
  const rule = useRested(value.trim())
  const count = useQuery({
    queryKey: [...keys.segments(place), 'count', rule],
    queryFn: ({ signal }) => api.call('countRule', { ...at, body: { rule }, signal }),
    enabled: rule !== '',
    retry: false,
    placeholderData: (before) => before,
  })
  const problem = count.error instanceof ProblemError ? count.error.problem : undefined
  const faults = useMemo(() => placedIn(problem?.errors), [problem])
  const says = rule === '' ? undefined : faults[0]?.says
  return (
    <div className="grid gap-3">
      <Field label="Rule" hint="A condition in CEL; user., device. and functions are offered as you type" fault={says}>
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
              : 'It is counted once nothing is wrong any more.'
            : count.data
              ? ''
              : 'Counting …'}
        {count.data && !count.error && <Counted count={count.data} />}
      </p>
    </div>
  )
}

type Count = Awaited<ReturnType<typeof api.call<'countRule'>>>

function Counted({ count: { people, devices, reachable, perPlatform, examples } }: { readonly count: Count }) {
  const platforms = Object.entries(perPlatform).filter(([, number]) => number > 0)
  const some = [...new Set(examples.map(({ user }) => user ?? 'somebody without a name'))]
  return (
    <>
      <strong className="text-ink">
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
