import { keepPreviousData, useMutation, useQuery } from '@tanstack/react-query'
import type { GatewayTrial } from '@zbell/contract'
import { useState } from 'react'
import { usePlace } from '../app/place.ts'
import { useRested } from '../app/use-rested.ts'
import { Button } from '../parts/button.tsx'
import { Field } from '../parts/field.tsx'
import { Failure } from '../parts/page.tsx'

type Props = {
  readonly platform: string
  /** The profile as it is written; empty while it cannot be read. */
  readonly profile: string
  /** Facts of the account that it speaks of. */
  readonly facts: readonly string[]
}

/** The request that a profile makes of a sample, as it changes; and, when it is sent, what came back and what that means. */
export function Trial({ platform, profile, facts }: Props) {
  const place = usePlace()
  const [title, setTitle] = useState('Boarding is open')
  const [body, setBody] = useState('Kittiwake, berth 2')
  const content = useRested(JSON.stringify({ ...(title === '' ? {} : { title }), ...(body === '' ? {} : { body }) }))
  const ask = (send: boolean) =>
    place.call('tryGateway', {
      params: { platform },
      body: { profile, content: JSON.parse(content) as { title?: string; body?: string }, send },
    })
  const sketch = useQuery({
    queryKey: ['try-profile', place.app.slug, place.environment, platform, profile, content],
    queryFn: () => ask(false),
    enabled: profile !== '',
    placeholderData: keepPreviousData,
    retry: false,
  })
  const send = useMutation({ mutationFn: () => ask(true) })
  const shown = profile === '' ? undefined : sketch.data
  return (
    <section aria-label="The request that it makes" className="grid min-w-0 content-start gap-4 lg:pt-13">
      <div className="grid gap-3 sm:grid-cols-2">
        <Field label="Title">
          {(control) => <input {...control} value={title} onChange={({ target }) => setTitle(target.value)} />}
        </Field>
        <Field label="Text">
          {(control) => <input {...control} value={body} onChange={({ target }) => setBody(target.value)} />}
        </Field>
      </div>
      <div>
        <p className="mb-1 font-semibold">The request</p>
        {sketch.error && profile !== '' ? (
          <Failure error={sketch.error} />
        ) : shown ? (
          <RequestOf trial={shown} />
        ) : (
          <p className="text-soft">It is shown as soon as the profile can be read.</p>
        )}
        {facts.length > 0 && (
          <p className="mt-1 text-sm text-soft">
            Facts of the account ({facts.join(', ')}) come from the credential; until there is one, their names stand
            for them.
          </p>
        )}
      </div>
      <div>
        <Button busy={send.isPending} disabled={profile === ''} onClick={() => send.mutate()}>
          Send it for a device that cannot exist
        </Button>
      </div>
      {send.error && <Failure error={send.error} />}
      {send.data?.answer && <AnswerOf answer={send.data.answer} />}
    </section>
  )
}

const block = 'rounded-control bg-sunken px-4 py-3 font-mono text-sm whitespace-pre-wrap wrap-anywhere'

function RequestOf({ trial: { request } }: { readonly trial: GatewayTrial }) {
  return (
    <>
      <pre className={block}>
        {[
          `${request.method} ${request.url}`,
          ...Object.entries(request.headers).map(([name, value]) => `${name}: ${value}`),
          '',
          pretty(request.body),
        ].join('\n')}
      </pre>
      <p className="mt-1 text-sm text-soft">
        {request.bodyBytes.toLocaleString('en')} bytes. What says who asks is masked.
      </p>
    </>
  )
}

const good = new Set(['accepted', 'token-gone'])

function AnswerOf({ answer }: { readonly answer: NonNullable<GatewayTrial['answer']> }) {
  const isGood = good.has(answer.outcome)
  return (
    <div role="status">
      <p className="mb-1 font-semibold">The answer</p>
      <p className={isGood ? 'text-sea' : 'text-red'}>
        {isGood ? '●' : '✕'} {answer.status}, {answer.outcome}. <span className="text-ink">{answer.says}</span>
      </p>
      {answer.body !== '' && <pre className={`mt-2 ${block}`}>{pretty(answer.body)}</pre>}
    </div>
  )
}

/** So many characters are shown. */
const shownCharacters = 8_000

function pretty(body: string): string {
  try {
    const text = JSON.stringify(JSON.parse(body), null, 2)
    return text.length > shownCharacters ? `${text.slice(0, shownCharacters)}\n…` : text
  } catch {
    return body.slice(0, shownCharacters) // What is no JSON is shown as it is.
  }
}
