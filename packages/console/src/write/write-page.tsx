import { useMutation } from '@tanstack/react-query'
import { ProblemError } from '@zbell/contract/client'
import { type FormEvent, useState } from 'react'
import { useNavigate, useSearchParams } from 'react-router'
import { api } from '../app/api.ts'
import { usePlace } from '../app/place.ts'
import { Field } from '../parts/field.tsx'
import { Failure, Page, primary } from '../parts/page.tsx'
import { type Draft, emptyDraft, fieldOf, references, requestOf } from './draft.ts'
import { Previews } from './previews.tsx'

const lifetimes = [
  [900, '15 minutes'],
  [3_600, '1 hour'],
  [21_600, '6 hours'],
  [86_400, '1 day'],
  [604_800, '1 week'],
] as const

export function WritePage() {
  const place = usePlace()
  const go = useNavigate()
  const [search] = useSearchParams()
  const [draft, setDraft] = useState<Draft>({ ...emptyDraft, to: search.get('to') ?? '' })
  const send = useMutation({
    mutationFn: () =>
      api.call('sendNotification', {
        params: { app: place.app.slug },
        query: { environment: place.environment },
        body: requestOf(draft),
      }),
    onSuccess: ({ id }) => go(`/activity/${id}`),
  })
  const faults = faultsOf(send.error, draft)
  const set = (part: Partial<Draft>) => setDraft({ ...draft, ...part })
  const submit = (event: FormEvent) => {
    event.preventDefault()
    send.mutate()
  }
  return (
    <Page title="Write" asks="What should ring, and for whom?">
      <form onSubmit={submit} noValidate className="grid gap-x-14 gap-y-10 lg:grid-cols-[minmax(0,1fr)_20rem]">
        <div className="grid content-start gap-5">
          <Field label="To" hint="user:NAME, device:ID or everyone; several with a space between" fault={faults.to}>
            {(props) => (
              <input
                {...props}
                className="font-mono"
                value={draft.to}
                onChange={(e) => set({ to: e.target.value })}
                placeholder="user:ada"
              />
            )}
          </Field>
          <Field
            label="Title"
            hint={`${draft.title.length} of 200 characters; phones cut it after about 40`}
            fault={faults.title}
          >
            {(props) => (
              <input {...props} dir="auto" value={draft.title} onChange={(e) => set({ title: e.target.value })} />
            )}
          </Field>
          <Field label="Body" hint="What the person should know without opening the app" fault={faults.body}>
            {(props) => (
              <textarea
                {...props}
                dir="auto"
                rows={3}
                value={draft.body}
                onChange={(e) => set({ body: e.target.value })}
              />
            )}
          </Field>
          <div className="grid gap-5 sm:grid-cols-2">
            <Field label="Where a tap leads" hint="A path in the app, or an address" fault={faults.navigate}>
              {(props) => (
                <input
                  {...props}
                  className="font-mono"
                  value={draft.navigate}
                  onChange={(e) => set({ navigate: e.target.value })}
                  placeholder="/sailings/101"
                />
              )}
            </Field>
            <Field label="Tag" hint="Takes the place of an earlier one with this tag" fault={faults.tag}>
              {(props) => (
                <input
                  {...props}
                  className="font-mono"
                  value={draft.tag}
                  onChange={(e) => set({ tag: e.target.value })}
                  placeholder="sailing-101"
                />
              )}
            </Field>
            <Field label="Urgency" hint="High wakes a sleeping phone" fault={faults.urgency}>
              {(props) => (
                <select
                  {...props}
                  value={draft.urgency}
                  onChange={(e) => set({ urgency: e.target.value as Draft['urgency'] })}
                >
                  {['very-low', 'low', 'normal', 'high'].map((name) => (
                    <option key={name}>{name}</option>
                  ))}
                </select>
              )}
            </Field>
            <Field label="Good for" hint="After that it is not delivered any more" fault={faults.ttlSeconds}>
              {(props) => (
                <select
                  {...props}
                  value={draft.ttlSeconds}
                  onChange={(e) => set({ ttlSeconds: Number(e.target.value) })}
                >
                  {lifetimes.map(([seconds, words]) => (
                    <option key={seconds} value={seconds}>
                      {words}
                    </option>
                  ))}
                </select>
              )}
            </Field>
          </div>
          {send.error && Object.keys(faults).length === 0 && <Failure error={send.error} />}
          <div>
            <button type="submit" className={primary} disabled={send.isPending}>
              {send.isPending ? 'Sending …' : `Send in ${place.environment}`}
            </button>
          </div>
        </div>
        <Previews draft={draft} app={place.app.name} />
      </form>
    </Page>
  )
}

type Faults = Partial<Record<keyof Draft, string>>

function faultsOf(error: unknown, draft: Draft): Faults {
  if (!(error instanceof ProblemError)) return {}
  const faults: Faults = {}
  for (const { pointer, detail } of error.problem.errors ?? []) {
    const field = fieldOf(pointer)
    const named = /^\/to\/any\/(\d+)$/.exec(pointer)?.[1]
    if (field) faults[field] ??= named === undefined ? detail : `${references(draft.to)[Number(named)]} ${detail}`
  }
  return faults
}
