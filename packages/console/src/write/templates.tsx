import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import type { Template } from '@zbell/contract'
import { useState } from 'react'
import { usePlace } from '../app/place.ts'
import { ContentPicture } from '../content/content-picture.tsx'
import { Button } from '../parts/button.tsx'
import { More } from '../parts/disclosure.tsx'
import { Failure } from '../parts/page.tsx'
import { type Draft, draftLike, requestOf } from './draft.ts'

/** What a template asks for is found in its texts, and filled in below them. */
function draftFrom({ content, declares }: Template, draft: Draft): Draft {
  const { to, urgency = 'normal', ttlSeconds = 86_400, spreadSeconds = 0 } = requestOf(draft)
  const fallbacks = Object.entries(declares).flatMap(([name, { fallback }]) =>
    fallback === undefined ? [] : [[name, fallback]],
  )
  return draftLike({
    to,
    content,
    values: {},
    fallbacks: Object.fromEntries(fallbacks),
    urgency,
    ttlSeconds,
    spreadSeconds,
  })
}

/** The type of a value, as a template declares it. */
const typeOf = (value: string | number | boolean) =>
  typeof value === 'number'
    ? 'number'
    : typeof value === 'boolean'
      ? 'boolean'
      : /^\d{4}-\d{2}-\d{2}T\d{2}:\d{2}/.test(value)
        ? 'instant'
        : 'text'

/** Takes up a saved template, and saves what is written as one. */
export function Templates({ draft, onTake }: { readonly draft: Draft; readonly onTake: (draft: Draft) => void }) {
  const place = usePlace()
  const client = useQueryClient()
  const [name, setName] = useState('')
  const key = [place.app.slug, place.environment, 'templates']
  const templates = useQuery({ queryKey: key, queryFn: () => place.all('listTemplates') })
  const save = useMutation({
    mutationFn: () => {
      const { content = {} } = requestOf(draft)
      const given = Object.entries(draft.values).map(([value, said]) => [value, { type: typeOf(said) }])
      const ofPerson = Object.entries(draft.fallbacks).map(([value, fallback]) => [
        value,
        { type: typeOf(fallback), ofPerson: true, fallback },
      ])
      const declares = Object.fromEntries([...given, ...ofPerson])
      return place.call('saveTemplate', { params: { template: name }, body: { content, declares } })
    },
    onSuccess: () => client.invalidateQueries({ queryKey: key }),
  })
  const items = templates.data ?? []
  const [open, setOpen] = useState(false)
  return (
    <More title={`Templates${items.length > 0 ? ` (${items.length})` : ''}`} open={open} onOpenChange={setOpen}>
      <div className="flex flex-wrap items-center gap-x-6 gap-y-3 text-sm">
        {items.length > 0 && (
          <ul aria-label="Templates" className="grid w-full gap-4 sm:grid-cols-2">
            {items.map((one) => (
              <li key={one.name} className="min-w-0">
                <p className="mb-1.5 flex items-baseline justify-between gap-3">
                  <span className="font-mono break-all">{one.name}</span>
                  <Button rank="quiet" onClick={() => onTake(draftFrom(one, draft))}>
                    Use <span className="sr-only">{one.name}</span>
                  </Button>
                </p>
                <ContentPicture
                  surface="web"
                  state="tray"
                  content={{ ...one.content, title: one.content.title ?? '', actions: one.content.actions ?? [] }}
                  app={place.app.name}
                  dark={false}
                />
                <p className="mt-1 text-soft">version {one.version}</p>
              </li>
            ))}
          </ul>
        )}
        <span className="flex items-center gap-2">
          <input
            aria-label="Name of the template"
            placeholder="delay"
            className="w-40 font-mono"
            value={name}
            onChange={(e) => setName(e.target.value)}
          />
          <Button rank="quiet" busy={save.isPending} disabled={name === ''} onClick={() => save.mutate()}>
            Save as template
          </Button>
        </span>
        {save.data && (
          <span aria-live="polite">
            Saved as {save.data.name}, version {save.data.version}.
          </span>
        )}
      </div>
      {save.error && <Failure error={save.error} />}
    </More>
  )
}
