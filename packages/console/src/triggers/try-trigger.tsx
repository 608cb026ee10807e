import { useMutation } from '@tanstack/react-query'
import type { Review } from '@zbell/contract'
import { type FormEvent, useState } from 'react'
import { api } from '../app/api.ts'
import { usePlace } from '../app/place.ts'
import { Button } from '../parts/button.tsx'
import { Field } from '../parts/field.tsx'
import { Failure } from '../parts/page.tsx'
import { Clauses } from '../segments/clauses.tsx'

const first = `{
  "id": "b-1",
  "subject": "ada",
  "data": { "sailing": 101 }
}`

type TryProps = {
  readonly name: string
  /** The event that came to it last. */
  readonly last: unknown
}

/** Says what would come of an event, and why; nothing is stored and nothing rings. */
export function TryTrigger({ name, last }: TryProps) {
  const place = usePlace()
  const [event, setEvent] = useState(first)
  const read = readObject(event)
  const ask = useMutation({
    mutationFn: (given: object) =>
      api.call('tryTrigger', {
        params: { app: place.app.slug, trigger: name },
        query: { environment: place.environment },
        body: { event: given as Record<string, never> },
      }),
  })
  const submit = (submitted: FormEvent) => {
    submitted.preventDefault()
    if (read) ask.mutate(read)
  }
  const tried = ask.error ? undefined : ask.data
  return (
    <section aria-labelledby="try" className="grid gap-4">
      <h2 id="try">Try it on an event</h2>
      <form onSubmit={submit} className="grid max-w-3xl gap-3">
        <Field
          label="Event"
          hint="As it would be reported; nothing is stored and nothing rings"
          fault={read ? undefined : 'is no JSON object'}
        >
          {(control) => (
            <textarea
              {...control}
              rows={6}
              spellCheck={false}
              className="font-mono text-sm"
              value={event}
              onChange={({ target }) => setEvent(target.value)}
            />
          )}
        </Field>
        <div className="flex flex-wrap gap-3">
          <Button type="submit" busy={ask.isPending} disabled={!read}>
            Try it
          </Button>
          {last !== undefined && (
            <Button rank="quiet" onClick={() => setEvent(JSON.stringify(last, null, 2))}>
              Take the last one that came
            </Button>
          )}
        </div>
      </form>
      {ask.error && <Failure error={ask.error} />}
      {tried && (
        <div className="grid gap-4" aria-live="polite">
          <p className="text-lg font-semibold">
            {tried.is === 'fires'
              ? `It fires, by case ${(tried.caseNo ?? 0) + 1}, for the key ${tried.key}.`
              : tried.is === 'fault'
                ? `It cannot ring: ${tried.says}`
                : `It does not fire: ${tried.says}`}
          </p>
          {tried.review && <Reach review={tried.review} />}
          {tried.cases.map(({ when, parts }) => (
            <Clauses key={when} label={when} parts={parts} />
          ))}
        </div>
      )}
    </section>
  )
}

/** For how many, and the words that each platform gets. */
function Reach({ review: { devices, people, estimated, samples, faults } }: { readonly review: Review }) {
  const total = devices.ios + devices.android + devices.web
  return (
    <>
      <p>
        {estimated && 'About '}
        {total.toLocaleString('en')} {total === 1 ? 'device' : 'devices'} of {people.toLocaleString('en')}{' '}
        {people === 1 ? 'person' : 'people'}.
      </p>
      {samples.map(({ platform, language, content: { title, body } }) => (
        <p key={`${platform} ${language}`}>
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
