import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import type { When } from '@zbell/contract'
import { neededFault, ProblemError } from '@zbell/contract/client'
import { type FormEvent, useEffect, useMemo, useState } from 'react'
import { useNavigate, useSearchParams } from 'react-router'
import { api } from '../app/api.ts'
import { keys } from '../app/live.ts'
import { usePlace } from '../app/place.ts'
import { useSettings } from '../app/use-settings.ts'
import { Previews } from '../content/previews.tsx'
import { Button } from '../parts/button.tsx'
import type { TextFault } from '../parts/code-text.tsx'
import { Field } from '../parts/field.tsx'
import { Failure, Page } from '../parts/page.tsx'
import { Segments } from '../parts/toggles.tsx'
import { readReferences } from '../target/references.ts'
import { TargetPicker } from '../target/target-picker.tsx'
import { atOnce, type TypedTiming, timingIn, WhenField } from '../upcoming/when-field.tsx'
import { namesIn } from '../values/names-in.ts'
import { ValuesEditor } from '../values/values-editor.tsx'
import {
  type Draft,
  draftLike,
  emptyDraft,
  fieldOf,
  keepDraft,
  noTexts,
  planRequestOf,
  readDraft,
  requestOf,
} from './draft.ts'
import { More } from './more.tsx'
import { devicesIn, Reach, ReviewSummary, warningsOf } from './reach.tsx'
import { Templates } from './templates.tsx'
import { useReview } from './use-review.ts'
import { Words } from './words.tsx'

/** When it rings, where that can be read and is not at once. */
const whenIn = (timing: TypedTiming): When | undefined => {
  const when = timingIn(timing)
  return typeof when === 'object' ? when : undefined
}

const ringers = ['the service', 'the devices'] as const
type Ringer = (typeof ringers)[number]

export function WritePage() {
  const place = usePlace()
  const [search] = useSearchParams()
  const like = search.get('like')
  const model = useQuery({
    queryKey: [place.app.slug, place.environment, 'like', like],
    queryFn: () =>
      api.call('readNotification', {
        params: { app: place.app.slug, id: like ?? '' },
        query: { environment: place.environment },
      }),
    enabled: like !== null,
    staleTime: Number.POSITIVE_INFINITY,
  })
  if (like !== null && !model.data)
    return (
      <Page title="Write" asks="What should ring, and for whom?">
        {model.error ? <Failure error={model.error} /> : <p className="text-soft">Reading …</p>}
      </Page>
    )
  const to = search.get('to')
  const kept = readDraft(place.app.slug, place.environment) ?? emptyDraft
  const first = model.data
    ? draftLike(model.data)
    : to === null
      ? kept
      : { ...emptyDraft, to: { any: readReferences(to) } }
  return <Writing key={`${place.app.slug} ${place.environment} ${like ?? ''} ${to ?? ''}`} first={first} />
}

function Writing({ first }: { readonly first: Draft }) {
  const place = usePlace()
  const go = useNavigate()
  const client = useQueryClient()
  const [draft, setDraft] = useState(first)
  const [language, setLanguage] = useState('')
  const [reader, setReader] = useState('')
  const [reviewing, setReviewing] = useState(false)
  const [timing, setTiming] = useState(atOnce)
  const [name, setName] = useState('')
  const [ringer, setRinger] = useState<Ringer>('the service')
  // What was begun anew, or taken up, is another target: the picker begins anew with it.
  const [pickerNo, setPickerNo] = useState(0)
  const { review, error, isCurrent } = useReview(place, draft, { user: reader, language }, whenIn(timing))
  useEffect(() => keepDraft(place.app.slug, place.environment, draft), [place, draft])
  const set = (part: Partial<Draft>) => {
    setReviewing(false)
    setDraft((last) => ({ ...last, ...part }))
  }
  const send = useMutation({
    mutationFn: (to?: string) => {
      const request = requestOf(draft)
      const when = timingIn(timing)
      const plan = to === undefined && ringer === 'the devices' && typeof when === 'object'
      const later = typeof when === 'object' ? { when, ...(name.trim() === '' ? {} : { name: name.trim() }) } : {}
      const body = plan
        ? planRequestOf(draft, name.trim(), when)
        : to === undefined
          ? { ...request, ...later }
          : { ...request, to: { any: readReferences(to) }, spreadSeconds: 0 }
      return api.call('sendNotification', {
        params: { app: place.app.slug },
        query: { environment: place.environment },
        body,
      })
    },
    onSuccess: ({ id, dueAt }, to) => {
      if (to !== undefined) return
      setTiming(atOnce)
      setName('')
      void client.invalidateQueries({ queryKey: keys.schedules(place) })
      setDraft(emptyDraft)
      keepDraft(place.app.slug, place.environment, emptyDraft)
      setRinger('the service')
      return go(dueAt !== null && timing.repeat.trim() !== '' ? `/upcoming/${name.trim()}` : `/activity/${id}`)
    },
  })
  const attributes = useQuery({
    queryKey: [...keys.people(place), 'attributes'],
    queryFn: () =>
      api.call('listAttributes', { params: { app: place.app.slug }, query: { environment: place.environment } }),
  })
  const { texts, values, fallbacks } = draft
  const places = useMemo(() => {
    const wanted = namesIn(Object.values(texts).flatMap(({ title, subtitle, body }) => [title, subtitle, body]))
    const more = [...new Set([...Object.keys(values), ...Object.keys(fallbacks)])]
      .filter((name) => !wanted.some((one) => one.name === name))
      .map((name) => ({ name, type: typeof values[name] === 'number' ? ('number' as const) : ('text' as const) }))
    return [...wanted, ...more]
  }, [texts, values, fallbacks])
  const known = useMemo(
    () => [
      ...(attributes.data?.items ?? []).map(({ name, type }) => ({ name, note: `${type}, each reader’s own` })),
      ...Object.keys(values).map((name) => ({ name, note: 'a value given below' })),
    ],
    [attributes.data, values],
  )
  const typed = { ...texts[''], ...filledTexts(texts[language] ?? noTexts) } as typeof noTexts
  const hasTime = timing.at.trim() !== '' || timing.repeat.trim() !== ''
  const touched = JSON.stringify(draft) !== JSON.stringify(emptyDraft)
  // A page that is still empty has no faults worth telling.
  const failure = send.error ?? error
  const asked = reviewing || send.error !== null
  const found = useMemo(() => (touched ? faultsOf(failure, draft, asked) : noFaults), [touched, failure, draft, asked])
  const faults = found.says
  const warnings = warningsOf(touched ? review : undefined)
  const submit = (event: FormEvent) => {
    event.preventDefault()
    setReviewing(true)
  }
  const ready = reviewing && isCurrent && review !== undefined && error === undefined
  return (
    <Page
      title="Write"
      asks="What should ring, and for whom?"
      action={
        touched && (
          <Button
            onClick={() => {
              set(emptyDraft)
              setPickerNo((no) => no + 1)
              setLanguage('')
            }}
          >
            Start anew
          </Button>
        )
      }
    >
      <form
        onSubmit={submit}
        noValidate
        className="grid grid-cols-[minmax(0,1fr)] gap-x-12 gap-y-10 lg:grid-cols-[minmax(0,1fr)_24rem]"
      >
        <div className="grid min-w-0 grid-cols-[minmax(0,1fr)] content-start gap-6">
          <Templates
            draft={draft}
            onTake={(taken) => {
              set(taken)
              setLanguage('')
            }}
          />
          <TargetPicker
            key={pickerNo}
            target={draft.to}
            onChange={(target) => set({ to: target })}
            faults={{ any: faults.any, all: faults.all, none: faults.none }}
          />
          <Reach review={error === undefined ? review : undefined} named={Object.keys(draft.to).length > 0} />
          <Words
            draft={draft}
            set={set}
            faults={faults}
            places={found.places}
            warnings={warnings}
            language={language}
            onLanguage={setLanguage}
            names={known}
          />
          <section aria-labelledby="values" className="grid gap-3">
            <h2 id="values">Values</h2>
            <ValuesEditor
              names={places}
              values={draft.values}
              fallbacks={draft.fallbacks}
              onChange={set}
              reader={reader}
              faults={{ values: faults.values, fallbacks: faults.fallbacks }}
            />
          </section>
          <More draft={draft} set={set} faults={faults} warnings={warnings} />
          <section aria-labelledby="when" className="grid gap-3">
            <h2 id="when">When</h2>
            <WhenField timing={timing} onChange={setTiming} />
            {hasTime && (
              <div className="grid max-w-md gap-1">
                <Segments label="Who rings it" value={ringer} options={ringers} onChange={setRinger} />
                <p className="text-sm text-soft">
                  {ringer === 'the devices'
                    ? 'Handed to the devices now, which ring it by themselves, without a network; title, text, place and tag go along. Write reader as the zone for each one’s own clock.'
                    : 'The service finds its people and rings it at its time.'}
                </p>
              </div>
            )}
            {(timing.repeat.trim() !== '' || (hasTime && ringer === 'the devices')) && (
              <Field
                label={ringer === 'the devices' ? 'Name of the plan' : 'Name of the schedule'}
                hint="By which it is found and stopped"
                fault={faults.name}
              >
                {(control) => (
                  <input
                    {...control}
                    className="font-mono"
                    value={name}
                    placeholder="evening"
                    onChange={(event) => setName(event.target.value)}
                  />
                )}
              </Field>
            )}
          </section>
          {send.error && Object.keys(faults).length === 0 && <Failure error={send.error} />}
          {ready ? (
            <Decide
              review={review}
              onSend={() => send.mutate(undefined)}
              onTest={(to) => send.mutate(to)}
              tested={send.isSuccess && send.variables !== undefined ? send.variables : undefined}
              busy={send.isPending}
              later={typeof timingIn(timing) === 'object'}
              blocked={typeof timingIn(timing) === 'string'}
            />
          ) : (
            <div>
              <Button rank="primary" type="submit">
                Review
              </Button>
              {reviewing && error !== undefined && Object.keys(faults).length === 0 && <Failure error={error} />}
            </div>
          )}
        </div>
        <aside aria-label="Preview" className="lg:sticky lg:top-8 lg:self-start">
          <div className="mb-4">
            <Field label="As this person gets it" hint="A user’s name; empty for the first one found">
              {(props) => (
                <input
                  {...props}
                  className="font-mono"
                  value={reader}
                  onChange={(e) => setReader(e.target.value)}
                  placeholder="ada"
                />
              )}
            </Field>
          </div>
          <Previews
            samples={review && error === undefined ? review.samples : []}
            typed={{ ...typed, actions: draft.actions.map((one) => ({ ...one, action: one.action || one.title })) }}
            language={language}
            app={place.app.name}
          />
        </aside>
      </form>
    </Page>
  )
}

type DecideProps = {
  readonly review: NonNullable<ReturnType<typeof useReview>['review']>
  readonly onSend: () => void
  readonly onTest: (to: string) => void
  readonly tested: string | undefined
  readonly busy: boolean
  /** It waits for its hour, and is not sent at once. */
  readonly later: boolean
  /** What was typed about its hour cannot be read. */
  readonly blocked: boolean
}

/** The last look: try it on somebody, then send; for many, the number has to be typed. */
function Decide({ review, onSend, onTest, tested, busy, later, blocked }: DecideProps) {
  const place = usePlace()
  const [typed, setTyped] = useState('')
  const [to, setTo] = useState('')
  const settings = useSettings()
  const devices = devicesIn(review)
  const isMany = settings.data !== undefined && devices >= settings.data.askFrom
  const mayGo =
    settings.data !== undefined &&
    review.faults.length === 0 &&
    (!isMany || typed.replaceAll(/[\s,.]/g, '') === String(devices))
  return (
    <section aria-labelledby="review" className="grid gap-6 border-t border-line pt-6">
      <h2 id="review">Review</h2>
      <ReviewSummary review={review} />
      <div className="flex flex-wrap items-end gap-3">
        <Field
          label="Try it first"
          hint={
            tested === undefined
              ? 'On your own devices: user:NAME or device:ID'
              : `Rung for ${tested}. Look at the device.`
          }
        >
          {(props) => (
            <input
              {...props}
              className="font-mono"
              value={to}
              onChange={(e) => setTo(e.target.value)}
              placeholder="user:ada"
            />
          )}
        </Field>
        <Button className="mb-6.5" disabled={busy || to.trim() === ''} onClick={() => onTest(to)}>
          Ring these only
        </Button>
      </div>
      {isMany && (
        <Field
          label={`Type ${devices.toLocaleString('en')} to send to so many devices`}
          hint="It cannot be called back from those it has reached"
        >
          {(props) => (
            <input
              {...props}
              inputMode="numeric"
              className="w-40"
              value={typed}
              onChange={(e) => setTyped(e.target.value)}
            />
          )}
        </Field>
      )}
      <div>
        <Button rank="primary" disabled={busy || !mayGo || blocked} onClick={onSend}>
          {busy ? 'Sending …' : `${later ? 'Schedule' : 'Send'} in ${place.environment}`}
        </Button>
      </div>
    </section>
  )
}

/** What a language says of its own; the rest is what everybody gets. */
const filledTexts = (own: typeof noTexts) => Object.fromEntries(Object.entries(own).filter(([, text]) => text !== ''))

/** What is wrong, by the field that it stands beside; in texts also where. */
export type DraftFaults = {
  readonly says: { readonly [field: string]: string }
  readonly places: { readonly [field: string]: readonly TextFault[] }
}

const noFaults: DraftFaults = { says: {}, places: {} }

/** @param all also what is only not there yet; while somebody still writes, that would be nagging */
function faultsOf(error: unknown, draft: Draft, all: boolean): DraftFaults {
  if (!(error instanceof ProblemError)) return noFaults
  const says: Record<string, string> = {}
  const places: Record<string, TextFault[]> = {}
  for (const { pointer, detail, code, line, column } of error.problem.errors ?? []) {
    const field = fieldOf(pointer)
    if (field === undefined) continue
    if (!all && code === neededFault) continue
    const named = /^\/to\/(any|all|none)\/(\d+)$/.exec(pointer)
    const reference = named && draft.to[named[1] as 'any' | 'all' | 'none']?.[Number(named[2])]
    says[field] ??= reference ? `${reference} ${detail}` : detail
    if (line !== undefined && column !== undefined) places[field] = [{ line, column, says: detail }]
  }
  return { says, places }
}
