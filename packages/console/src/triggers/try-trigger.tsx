import { useMutation } from '@tanstack/react-query'
import type { Review } from '@zbell/contract'
import { type FormEvent, useState } from 'react'
import { usePlace } from '../app/place.ts'
import { Button } from '../parts/button.tsx'
import { Field } from '../parts/field.tsx'
import { Failure } from '../parts/page.tsx'
import { Clauses } from '../segments/clauses.tsx'

const firstEvent = `{
  "id": "b-1",
  "subject": "ada",
  "data": { "sailing": 101 }
}`

/** What came to it last, as its log has it. */
export type LastGiven = { readonly event?: unknown; readonly row?: unknown; readonly before?: unknown }

type TryProps = {
  readonly name: string
  readonly source: string
  readonly last: LastGiven | undefined
}

type TrialFields =
  | { event: Record<string, never> }
  | { row: Record<string, never>; take: true; before?: Record<string, never> }

const asText = (value: unknown): string => JSON.stringify(value, null, 2)

/** Says what would come of an event or a row, and why; nothing is stored, and nothing rings but on one’s own devices. */
export function TryTrigger({ name, source, last }: TryProps) {
  const place = usePlace()
  const at = { params: { trigger: name } }
  const isEvent = source === 'occurrences' || last?.event !== undefined
  const [text, setText] = useState(isEvent ? firstEvent : '{ "id": 101 }')
  const [before, setBefore] = useState('')
  const read = readObject(text)
  const readBefore = before.trim() === '' ? undefined : readObject(before)
  const isReady = read !== undefined && (before.trim() === '' || readBefore !== undefined)
  const given = (): TrialFields => {
    const body = read as Record<string, never>
    return isEvent
      ? { event: body }
      : { row: body, take: true, ...(readBefore && { before: readBefore as Record<string, never> }) }
  }
  const ask = useMutation({ mutationFn: () => place.call('tryTrigger', { ...at, body: given() }) })
  const take = useMutation({
    mutationFn: () => place.call('trySource', { params: { source } }),
    onSuccess: ({ rows }) => {
      const [row] = rows
      if (row) setText(asText(row))
    },
  })
  const submit = (submitted: FormEvent) => {
    submitted.preventDefault()
    if (isReady) ask.mutate()
  }
  const takeLast = () => {
    setText(asText(last?.event ?? last?.row))
    setBefore(last?.before === undefined ? '' : asText(last.before))
  }
  const tried = ask.error ? undefined : ask.data
  const control = { rows: 6, spellCheck: false, className: 'font-mono text-sm' }
  return (
    <section aria-labelledby="try" className="grid gap-4">
      <h2 id="try">{isEvent ? 'Try it on an event' : 'Try it on a row'}</h2>
      <form onSubmit={submit} className="grid max-w-3xl gap-3">
        <div className={isEvent ? '' : 'grid gap-3 sm:grid-cols-2'}>
          <Field
            label={isEvent ? 'Event' : 'Row'}
            hint={
              isEvent
                ? 'As it would be reported; nothing is stored and nothing rings'
                : `What it leaves out is read from ${source}, by its key`
            }
            fault={read ? undefined : 'is no JSON object'}
          >
            {(own) => <textarea {...own} {...control} value={text} onChange={({ target }) => setText(target.value)} />}
          </Field>
          {!isEvent && (
            <Field
              label="Before"
              hint="What was watched of it before; empty for a new row"
              fault={before.trim() === '' || readBefore ? undefined : 'is no JSON object'}
            >
              {(own) => (
                <textarea {...own} {...control} value={before} onChange={({ target }) => setBefore(target.value)} />
              )}
            </Field>
          )}
        </div>
        <div className="flex flex-wrap gap-3">
          <Button type="submit" busy={ask.isPending} disabled={!isReady}>
            Try it
          </Button>
          {(last?.event ?? last?.row) !== undefined && (
            <Button rank="quiet" onClick={takeLast}>
              Use the last one received
            </Button>
          )}
          {!isEvent && (
            <Button rank="quiet" busy={take.isPending} onClick={() => take.mutate()}>
              Take a row of {source}
            </Button>
          )}
        </div>
      </form>
      {(ask.error ?? take.error) && <Failure error={ask.error ?? take.error} />}
      {tried && (
        <div className="grid gap-4" aria-live="polite">
          <p className="text-lg font-semibold">
            {tried.is === 'fires'
              ? `It fires, by case ${(tried.caseNo ?? 0) + 1}, for the key ${tried.key}.`
              : tried.is === 'fault'
                ? `It cannot ring: ${tried.says}`
                : `It does not fire: ${tried.says}`}
          </p>
          {tried.warnings.map(({ pointer, detail }) => (
            <p key={pointer} role="note">
              <strong>Careful:</strong> <code className="font-mono text-sm">{pointer}</code> {detail}.
            </p>
          ))}
          {tried.review && <Reach review={tried.review} />}
          {tried.cases.map(({ when, parts }) => (
            <Clauses key={when} label={when} parts={parts} />
          ))}
          {tried.is === 'fires' && <RingOwn name={name} given={given} />}
        </div>
      )}
    </section>
  )
}

type RingProps = { readonly name: string; readonly given: () => TrialFields }

/** Rings what it would ring, on one’s own devices only. */
function RingOwn({ name, given }: RingProps) {
  const place = usePlace()
  const [only, setOnly] = useState('')
  const ring = useMutation({
    mutationFn: () => place.call('ringTrigger', { params: { trigger: name }, body: { ...given(), only } }),
  })
  return (
    <>
      <div className="flex flex-wrap items-end gap-3">
        <Field
          label="Ring it for yourself"
          hint={ring.data?.notification ? 'Rung. Look at the device.' : 'On your own devices: user:NAME or device:ID'}
        >
          {(own) => (
            <input
              {...own}
              className="font-mono"
              value={only}
              onChange={({ target }) => setOnly(target.value)}
              placeholder="user:ada"
            />
          )}
        </Field>
        <Button className="mb-6.5" busy={ring.isPending} disabled={only.trim() === ''} onClick={() => ring.mutate()}>
          Ring these only
        </Button>
      </div>
      {ring.error && <Failure error={ring.error} />}
    </>
  )
}

/** For how many, and the words that each platform gets. */
function Reach({ review: { devices, people, estimated, person, samples, faults } }: { readonly review: Review }) {
  const total = devices.ios + devices.android + devices.web
  return (
    <>
      <p>
        {estimated && 'About '}
        {total.toLocaleString('en')} {total === 1 ? 'device' : 'devices'} of {people.toLocaleString('en')}{' '}
        {people === 1 ? 'person' : 'people'}.
      </p>
      {person?.detail && <p className="text-red">{person.detail}</p>}
      {person?.devices.map(
        ({ device, platform, model, detail }) =>
          detail && (
            <p key={device}>
              <span className="text-soft">{model ?? platform}:</span> {detail}
            </p>
          ),
      )}
      {samples.map(({ platform, language, content: { title, body } }, i) => (
        // Two devices of a person may get the same.
        // biome-ignore lint/suspicious/noArrayIndexKey: nothing else tells them apart
        <p key={i}>
          <span className="text-soft">
            {platform}
            {language && `, ${language}`}:
          </span>{' '}
          <bdi className="font-semibold">{title || 'Wakes the app'}</bdi> {body && <bdi>{body}</bdi>}
        </p>
      ))}
      {faults.map(({ field, says }) => (
        <p key={`${field} ${says}`} className="text-red">
          {says}
        </p>
      ))}
    </>
  )
}

function readObject(text: string): object | undefined {
  try {
    const value: unknown = JSON.parse(text)
    return typeof value === 'object' && value !== null && !Array.isArray(value) ? value : undefined
  } catch {
    return undefined
  }
}
