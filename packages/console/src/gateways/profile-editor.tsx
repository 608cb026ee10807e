import { keepPreviousData, useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import type { GatewayText } from '@zbell/contract'
import { ProblemError } from '@zbell/contract/client'
import { exampleProfile, type ProfileKind, profileKinds } from '@zbell/contract/words'
import { useEffect, useRef, useState } from 'react'
import { keys } from '../app/live.ts'
import { usePlace } from '../app/place.ts'
import { useRested } from '../app/use-rested.ts'
import { actionLook, Button } from '../parts/button.tsx'
import { CodeText, type TextFault } from '../parts/code-text.tsx'
import { Fault, Field } from '../parts/field.tsx'
import { changed } from '../parts/leaving.tsx'
import { Failure, Saved } from '../parts/page.tsx'
import type { Schema } from '../parts/profile-language.ts'
import { Select } from '../parts/select.tsx'
import { Trial } from './trial.tsx'

type Props = { readonly platform: string; readonly now: GatewayText }

const kinds = [
  { value: '', label: 'Begin from an example …' },
  ...profileKinds.map((value) => ({ value, label: value })),
] as const

/** A profile as it is written, with its faults marked; beside it the request that it makes. */
export function ProfileEditor({ platform, now }: Props) {
  const place = usePlace()
  const client = useQueryClient()
  const [text, setText] = useState(now.text ?? '')
  const rested = useRested(text)
  const [kept, setKept] = useState(text)
  const unsaved = useRef(false)
  unsaved.current = text !== kept
  useEffect(() => changed.watch(unsaved), [])
  const params = { platform }
  const schema = useQuery({
    queryKey: ['gateway-profile-schema'],
    queryFn: readSchema,
    staleTime: Number.POSITIVE_INFINITY,
  })
  const lint = useQuery({
    queryKey: ['lint-profile', place.app.slug, rested],
    queryFn: () => place.call('lintGateway', { body: { text: rested } }),
    enabled: rested !== '',
    placeholderData: keepPreviousData,
  })
  const save = useMutation({
    mutationFn: (use: boolean) => place.call('saveGateway', { params, body: { profile: text, use } }),
    onSuccess: async () => {
      setKept(text)
      await client.invalidateQueries({ queryKey: keys.gateways(place) })
      await client.invalidateQueries({ queryKey: keys.setup(place) })
    },
  })
  const faults: readonly TextFault[] = text === '' ? [] : (lint.data?.faults ?? [])
  const refused = save.error instanceof ProblemError ? (save.error.problem.errors ?? []) : []
  // The last that could be read: what is typed since is looked at first.
  const readable = useRef('')
  if (lint.data?.profile && !lint.isPlaceholderData) readable.current = rested
  const isReady = text !== '' && rested === text && faults.length === 0 && lint.data !== undefined
  return (
    <div className="grid gap-x-10 gap-y-8 lg:grid-cols-[minmax(0,6fr)_minmax(0,5fr)]">
      <section aria-label="Profile" className="grid min-w-0 content-start gap-3">
        <div className="flex flex-wrap items-center gap-3">
          <BeginFrom onPick={(kind) => setText(exampleProfile(kind, platform === 'android' ? 'android' : 'ios'))} />
          <TakeFile onText={setText} />
        </div>
        <Field
          label="Profile"
          hint="YAML; what may stand where is offered as you type"
          fault={faults[0] && `Line ${faults[0].line}: ${faults[0].says}`}
        >
          {(control) => (
            <CodeText
              {...control}
              label="Profile"
              language="profile"
              names={[]}
              schema={schema.data}
              value={text}
              onChange={setText}
              faults={faults}
            />
          )}
        </Field>
        {faults.slice(1, 6).map(({ line, column, says }) => (
          <Fault key={`${line} ${column} ${says}`} says={`Line ${line}: ${says}`} />
        ))}
        <div className="flex flex-wrap items-center gap-3">
          <Button rank="primary" busy={save.isPending} disabled={!isReady} onClick={() => save.mutate(true)}>
            Save and use
          </Button>
          <Button busy={save.isPending} disabled={!isReady} onClick={() => save.mutate(false)}>
            Save, and let it wait
          </Button>
          <Saved when={save.isSuccess && text === kept} />
        </div>
        {save.error && <Failure error={save.error} />}
        {refused.slice(1).map(({ pointer, detail, line }) => (
          <Fault key={`${pointer} ${detail}`} says={line === undefined ? detail : `Line ${line}: ${detail}`} />
        ))}
      </section>
      <Trial
        platform={platform}
        profile={faults.length === 0 && text !== '' ? readable.current : ''}
        facts={lint.data?.profile?.facts ?? []}
      />
    </div>
  )
}

const readSchema = async (): Promise<Schema> => (await (await fetch('/gateway-profile.schema.json')).json()) as Schema

function BeginFrom({ onPick }: { readonly onPick: (kind: ProfileKind) => void }) {
  return (
    <Select
      label="Begin from an example"
      className="w-64"
      value=""
      options={kinds}
      onChange={(kind) => kind !== '' && onPick(kind)}
    />
  )
}

function TakeFile({ onText }: { readonly onText: (text: string) => void }) {
  return (
    <label className={`${actionLook('secondary')} focus-within:outline-2`}>
      Take a file
      <input
        type="file"
        accept=".yaml,.yml"
        className="sr-only"
        onChange={({ target }) => void target.files?.[0]?.text().then(onText)}
      />
    </label>
  )
}
