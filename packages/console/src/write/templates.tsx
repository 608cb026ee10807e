import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import type { Template } from '@zbell/contract'
import { useState } from 'react'
import { api } from '../app/api.ts'
import { usePlace } from '../app/place.ts'
import { Failure } from '../parts/page.tsx'
import { type Draft, draftLike, pairsOf, requestOf } from './draft.ts'

/** What a template asks for becomes lines to be filled in. */
function draftFrom({ content, declares }: Template, draft: Draft): Draft {
  const { to, urgency = 'normal', ttlSeconds = 86_400, spreadSeconds = 0 } = requestOf(draft)
  const fallbacks = Object.entries(declares).flatMap(([name, { fallback }]) =>
    fallback === undefined ? [] : [[name, fallback]],
  )
  const asked = Object.entries(declares).filter(([, one]) => !one.ofPerson && one.fallback === undefined)
  const filled = draftLike({
    to,
    content,
    values: {},
    fallbacks: Object.fromEntries(fallbacks),
    urgency,
    ttlSeconds,
    spreadSeconds,
  })
  return { ...filled, values: asked.map(([name]) => `${name} = `).join('\n') }
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
  const params = { app: place.app.slug }
  const query = { environment: place.environment }
  const key = [place.app.slug, place.environment, 'templates']
  const templates = useQuery({ queryKey: key, queryFn: () => api.all('listTemplates', { params, query }) })
  const save = useMutation({
    mutationFn: () => {
      const { content = {} } = requestOf(draft)
      const given = Object.entries(pairsOf(draft.values)).map(([value, said]) => [value, { type: typeOf(said) }])
      const ofPerson = Object.entries(pairsOf(draft.fallbacks)).map(([value, fallback]) => [
        value,
        { type: typeOf(fallback), ofPerson: true, fallback },
      ])
      const declares = Object.fromEntries([...given, ...ofPerson])
      return api.call('saveTemplate', { params: { ...params, template: name }, query, body: { content, declares } })
    },
    onSuccess: () => client.invalidateQueries({ queryKey: key }),
  })
  const items = templates.data ?? []
  return (
    <details>
      <summary className="cursor-pointer text-sm">Templates{items.length > 0 && ` (${items.length})`}</summary>
      <div className="mt-2 flex flex-wrap items-center gap-x-6 gap-y-3 text-sm">
        {items.length > 0 && (
          <label className="flex items-center gap-2">
            Take up
            <select
              value=""
              onChange={(e) => {
                const taken = items.find((one) => one.name === e.target.value)
                if (taken) onTake(draftFrom(taken, draft))
              }}
            >
              <option value="">choose one</option>
              {items.map((one) => (
                <option key={one.name} value={one.name}>
                  {one.name}, version {one.version}
                </option>
              ))}
            </select>
          </label>
        )}
        <span className="flex items-center gap-2">
          <input
            aria-label="Name of the template"
            placeholder="delay"
            className="w-40 font-mono"
            value={name}
            onChange={(e) => setName(e.target.value)}
          />
          <button
            type="button"
            className="cursor-pointer underline underline-offset-4"
            disabled={save.isPending || name === ''}
            onClick={() => save.mutate()}
          >
            Save as template
          </button>
        </span>
        {save.data && (
          <span aria-live="polite">
            Saved as {save.data.name}, version {save.data.version}.
          </span>
        )}
      </div>
      {save.error && <Failure error={save.error} />}
    </details>
  )
}
