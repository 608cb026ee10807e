import { useQuery } from '@tanstack/react-query'
import type { Review, When } from '@zbell/contract'
import { type FormEvent, useEffect, useMemo, useState } from 'react'
import { useNavigate, useSearchParams } from 'react-router'
import { usePlace } from '../app/place.ts'
import { Previews } from '../content/previews.tsx'
import { Button } from '../parts/button.tsx'
import { Field } from '../parts/field.tsx'
import { Failure, Page } from '../parts/page.tsx'
import { readReferences } from '../target/references.ts'
import { TargetPicker } from '../target/target-picker.tsx'
import { atOnce, type TypedTiming, timingIn } from '../upcoming/when-field.tsx'
import { ValuesEditor } from '../values/values-editor.tsx'
import { Decide } from './decide.tsx'
import { type Draft, draftLike, emptyDraft, keepDraft, noTexts, readDraft } from './draft.ts'
import { faultsOf, noFaults } from './draft-faults.ts'
import { More } from './more.tsx'
import { Reach, warningsOf } from './reach.tsx'
import { Templates } from './templates.tsx'
import { useNames } from './use-names.ts'
import { useReview } from './use-review.ts'
import { useSend } from './use-send.ts'
import { type Hour, WhenSection } from './when-section.tsx'
import { Words } from './words.tsx'

/** When it rings, where that can be read and is not at once. */
const whenIn = (timing: TypedTiming): When | undefined => {
  const when = timingIn(timing)
  return typeof when === 'object' ? when : undefined
}

const noHour: Hour = { timing: atOnce, ringer: 'the service', name: '' }

export function WritePage() {
  const place = usePlace()
  const [search] = useSearchParams()
  const like = search.get('like')
  const model = useQuery({
    queryKey: [place.app.slug, place.environment, 'like', like],
    queryFn: () => place.call('readNotification', { params: { id: like ?? '' } }),
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
  const [draft, setDraft] = useState(first)
  const [language, setLanguage] = useState('')
  const [reader, setReader] = useState('')
  const [reviewing, setReviewing] = useState(false)
  const [hour, setHour] = useState(noHour)
  // What was begun anew, or taken up, is another target: the picker begins anew with it.
  const [pickerNo, setPickerNo] = useState(0)
  const { review, error, isCurrent } = useReview(place, draft, { user: reader, language }, whenIn(hour.timing))
  useEffect(() => keepDraft(place.app.slug, place.environment, draft), [place, draft])
  const set = (part: Partial<Draft>) => {
    setReviewing(false)
    setDraft((last) => ({ ...last, ...part }))
  }
  const send = useSend(draft, hour, (watchedAt) => {
    setHour(noHour)
    setDraft(emptyDraft)
    keepDraft(place.app.slug, place.environment, emptyDraft)
    return go(watchedAt)
  })
  const { named, known } = useNames(draft)
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
  const anew = () => {
    set(emptyDraft)
    setPickerNo((no) => no + 1)
    setLanguage('')
  }
  const take = (taken: Partial<Draft>) => {
    set(taken)
    setLanguage('')
  }
  const ready = reviewing && isCurrent && review !== undefined && error === undefined
  const hasNoPlace = Object.keys(faults).length === 0
  return (
    <Page
      title="Write"
      asks="What should ring, and for whom?"
      action={touched && <Button onClick={anew}>Start over</Button>}
    >
      <form
        onSubmit={submit}
        noValidate
        className="grid grid-cols-[minmax(0,1fr)] gap-x-12 gap-y-10 lg:grid-cols-[minmax(0,1fr)_24rem]"
      >
        <div className="grid min-w-0 grid-cols-[minmax(0,1fr)] content-start gap-6">
          <Templates draft={draft} onTake={take} />
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
              names={named}
              values={draft.values}
              fallbacks={draft.fallbacks}
              onChange={set}
              reader={reader}
              faults={{ values: faults.values, fallbacks: faults.fallbacks }}
            />
          </section>
          <More draft={draft} set={set} faults={faults} warnings={warnings} />
          <WhenSection hour={hour} onChange={(part) => setHour((last) => ({ ...last, ...part }))} fault={faults.name} />
          {send.error && hasNoPlace && <Failure error={send.error} />}
          {ready ? (
            <Decide
              review={review}
              onSend={() => send.mutate(undefined)}
              onTest={(to) => send.mutate(to)}
              tested={send.isSuccess && send.variables !== undefined ? send.variables : undefined}
              busy={send.isPending}
              later={typeof timingIn(hour.timing) === 'object'}
              blocked={typeof timingIn(hour.timing) === 'string'}
            />
          ) : (
            <div>
              <Button rank="primary" type="submit">
                Review
              </Button>
              {reviewing && error !== undefined && hasNoPlace && <Failure error={error} />}
            </div>
          )}
        </div>
        <Preview
          draft={draft}
          language={language}
          review={error === undefined ? review : undefined}
          reader={reader}
          onReader={setReader}
        />
      </form>
    </Page>
  )
}

type PreviewProps = {
  readonly draft: Draft
  readonly language: string
  readonly review: Review | undefined
  readonly reader: string
  readonly onReader: (reader: string) => void
}

/** What a person gets, as devices show it. */
function Preview({ draft, language, review, reader, onReader }: PreviewProps) {
  const place = usePlace()
  const { texts, actions } = draft
  const typed = { ...texts[''], ...filledTexts(texts[language] ?? noTexts) } as typeof noTexts
  return (
    <aside aria-label="Preview" className="lg:sticky lg:top-8 lg:self-start">
      <div className="mb-4">
        <Field label="As this person gets it" hint="A user’s name; empty for the first one found">
          {(props) => (
            <input
              {...props}
              className="font-mono"
              value={reader}
              onChange={(e) => onReader(e.target.value)}
              placeholder="ada"
            />
          )}
        </Field>
      </div>
      {review?.person && <NotThere person={review.person} />}
      <Previews
        samples={review?.samples ?? []}
        typed={{ ...typed, actions: actions.map((one) => ({ ...one, action: one.action || one.title })) }}
        language={language}
        app={place.app.name}
      />
    </aside>
  )
}

/** Why somebody would not get it, on all devices or on some. */
function NotThere({ person: { detail, devices } }: { readonly person: NonNullable<Review['person']> }) {
  const because = new Map<string, string[]>()
  for (const { platform, model, detail: reason, remedy } of devices)
    if (reason) {
      const text = `${reason} ${remedy ?? ''}`
      because.set(text, [...(because.get(text) ?? []), model ?? platform])
    }
  return (
    <div className="mb-4 text-sm">
      {detail && <p className="text-red">{detail}</p>}
      {[...because].map(([text, names]) => (
        <p key={text}>
          <span className="text-soft">{names.join(', ')}:</span> {text}
        </p>
      ))}
    </div>
  )
}

/** What a language says of its own; the rest is what everybody gets. */
const filledTexts = (own: typeof noTexts) => Object.fromEntries(Object.entries(own).filter(([, text]) => text !== ''))
