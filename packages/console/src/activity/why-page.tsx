import { useQuery } from '@tanstack/react-query'
import type { Explanation, ExplanationStep } from '@zbell/contract'
import { stepLooks } from '@zbell/contract/words'
import { type FormEvent, useState } from 'react'
import { Link, useNavigate, useParams } from 'react-router'
import { keys, notificationQuery } from '../app/live.ts'
import { usePlace } from '../app/place.ts'
import { ContentPicture } from '../content/content-picture.tsx'
import { ActionLink, Button } from '../parts/button.tsx'
import { Field } from '../parts/field.tsx'
import { Moment } from '../parts/moment.tsx'
import { Failure, Page, Waiting } from '../parts/page.tsx'
import { toneText } from '../parts/states.tsx'
import { Clauses } from '../segments/clauses.tsx'

/** Asks about one notification and one person or device, and walks the whole way. */
export function WhyPage() {
  const place = usePlace()
  const go = useNavigate()
  const { id = '', who = '' } = useParams()
  const [asked, setAsked] = useState(who)
  const params = { id }
  const notification = useQuery(notificationQuery(place, id))
  const explanation = useQuery({
    queryKey: [...keys.notification(place, id), 'why', who],
    queryFn: () => place.call('explainDelivery', { params: { ...params, who } }),
    enabled: who !== '',
    refetchInterval: 3_000,
  })
  const ask = (event: FormEvent) => {
    event.preventDefault()
    if (asked.trim()) void go(`/activity/${id}/why/${encodeURIComponent(asked.trim())}`)
  }
  return (
    <Page
      title="Why"
      asks={`Why did somebody see “${notification.data?.shows.title || '…'}”, or not?`}
      action={<ActionLink to={`/activity/${id}`}>The notification</ActionLink>}
    >
      <form onSubmit={ask} className="flex flex-wrap items-end gap-3">
        <Field label="Who" hint="A person’s name, or a device’s id">
          {(props) => (
            <input
              {...props}
              className="font-mono"
              value={asked}
              onChange={(e) => setAsked(e.target.value)}
              placeholder="ada"
            />
          )}
        </Field>
        <Button rank="primary" type="submit" className="mb-6.5">
          Explain
        </Button>
      </form>
      {notification.data && (
        <div className="mt-6 max-w-sm">
          <ContentPicture
            surface="web"
            state="tray"
            content={{
              title: notification.data.shows.title || 'Wakes the app',
              body: notification.data.shows.body ?? '',
            }}
            app={place.app.name}
            dark
          />
        </div>
      )}
      {explanation.error ? <Failure error={explanation.error} /> : who !== '' && !explanation.data && <Waiting />}
      {explanation.data && <Details explanation={explanation.data} />}
    </Page>
  )
}

function Details({ explanation: { verdict, about, devices, likely } }: { readonly explanation: Explanation }) {
  return (
    <div className="mt-8 max-w-3xl">
      <p className="text-2xl leading-snug font-semibold" aria-live="polite">
        {verdict}
      </p>
      {likely.length > 0 && (
        <section aria-labelledby="likely" className="mt-6">
          <h2 id="likely">Most likely, in this order</h2>
          <ol className="mt-1 list-decimal ps-6">
            {likely.map((one) => (
              <li key={one}>{one}</li>
            ))}
          </ol>
        </section>
      )}
      {devices.map(({ device, platform, model, verdict: own, steps, rules }) => (
        <section key={device} aria-labelledby={`way-${device}`} className="mt-8">
          <h2 id={`way-${device}`}>
            <Link to={`/devices/${device}`}>{model ?? platform}</Link>{' '}
            <span className="text-base font-normal text-soft">({platform})</span>
          </h2>
          {devices.length > 1 && <p className="text-soft">{own}</p>}
          <Steps steps={steps} />
          {rules.map((rule) => (
            <RuleThen key={rule.segment ?? ''} rule={rule} />
          ))}
        </section>
      ))}
      <section aria-labelledby="about" className="mt-8">
        <h2 id="about">The notification</h2>
        <Steps steps={about} />
      </section>
    </div>
  )
}

type Rule = Explanation['devices'][number]['rules'][number]

/** What a rule of the target said of a device when it was sent, clause by clause. */
function RuleThen({ rule: { segment, rule, belongs, parts, changed } }: { readonly rule: Rule }) {
  const name = segment === null ? 'The rule of the target' : `Segment ${segment}`
  const said =
    belongs === true ? 'held' : belongs === false ? 'did not hold' : 'did not hold: what decides was not known'
  return (
    <div className="mt-4 grid gap-2">
      <h3>
        {name} {said}
      </h3>
      {parts.length > 0 ? (
        <Clauses label={`${name}, clause by clause`} parts={parts} />
      ) : (
        <p>
          <code className="font-mono text-sm">{rule}</code> can no longer be evaluated: a segment that it names has
          changed.
        </p>
      )}
      {changed.length > 0 && (
        <p className="text-sm text-soft">
          Set again since, so that it may have been otherwise then: {changed.join(', ')}.
        </p>
      )}
    </div>
  )
}

function Steps({ steps }: { readonly steps: readonly ExplanationStep[] }) {
  return (
    <ol className="mt-2">
      {steps.map(({ says, verdict, at }) => {
        const { shape, word, tone } = stepLooks[verdict]
        return (
          <li key={says} className="grid grid-cols-[1.5rem_1fr_auto] gap-3 border-t border-line py-2">
            <span className={toneText[tone]} title={word}>
              <span aria-hidden="true">{shape}</span>
              <span className="sr-only">{word}: </span>
            </span>
            <span className="break-words">{says}</span>
            <span className="text-sm text-soft">{at && <Moment at={at} />}</span>
          </li>
        )
      })}
    </ol>
  )
}
