import { useMutation } from '@tanstack/react-query'
import type { App } from '@zbell/contract'
import { type FormEvent, useState } from 'react'
import { api } from '../app/api.ts'
import { faultsOf } from '../app/failures.ts'
import { usePlace } from '../app/place.ts'
import { useIsOwner, useSession } from '../app/session.ts'
import { ActionLink, Button } from '../parts/button.tsx'
import { Field } from '../parts/field.tsx'
import { Failure, Page, Saved } from '../parts/page.tsx'
import { Keys } from './keys.tsx'
import { Settings } from './settings.tsx'

const fields = [
  ['ios', 'On iOS', 'Its bundle identifier, such as example.ferries'],
  ['android', 'On Android', 'Its package name, such as example.ferries'],
  ['web', 'On the web', 'Where its pages come from, such as https://ferries.example'],
] as const

export function AppPage() {
  const place = usePlace()
  const isOwner = useIsOwner()
  return (
    <Page
      title={place.app.name}
      asks="What is this app called, what does it ask, and who may speak for it?"
      action={isOwner && <ActionLink to="/app/new">Make another app</ActionLink>}
    >
      <div className="grid gap-x-14 gap-y-12 lg:grid-cols-[20rem_minmax(0,1fr)]">
        <div className="grid content-start gap-12">
          <Names key={place.app.slug} />
          <Settings key={`${place.app.slug} settings`} />
        </div>
        {isOwner ? <Keys /> : <p className="text-soft">Keys are shown to owners of this console.</p>}
      </div>
    </Page>
  )
}

function Names() {
  const { app } = usePlace()
  const { refresh } = useSession()
  const isOwner = useIsOwner()
  const [name, setName] = useState(app.name)
  const [identifiers, setIdentifiers] = useState<App['identifiers']>(app.identifiers)
  const save = useMutation({
    mutationFn: () => {
      const trimmed = fields.map(([platform]) => [platform, identifiers[platform]?.trim() || null])
      return api.call('changeApp', {
        params: { app: app.slug },
        body: { name: name.trim(), identifiers: Object.fromEntries(trimmed) },
      })
    },
    onSuccess: refresh,
  })
  const submit = (event: FormEvent) => {
    event.preventDefault()
    save.mutate()
  }
  const faults = faultsOf(save.error)
  return (
    <form onSubmit={submit} noValidate className="grid content-start gap-5">
      <h2>What it is called</h2>
      <Field label="Name" hint={`People read it; in addresses it stays ${app.slug}`} fault={faults['/name']}>
        {(props) => <input {...props} value={name} disabled={!isOwner} onChange={(e) => setName(e.target.value)} />}
      </Field>
      {fields.map(([platform, label, hint]) => (
        <Field key={platform} label={label} hint={hint} fault={faults[`/identifiers/${platform}`]}>
          {(props) => (
            <input
              {...props}
              className="font-mono text-sm"
              value={identifiers[platform] ?? ''}
              disabled={!isOwner}
              onChange={(e) => setIdentifiers({ ...identifiers, [platform]: e.target.value })}
            />
          )}
        </Field>
      ))}
      {save.error && Object.keys(faults).length === 0 && <Failure error={save.error} />}
      {isOwner && (
        <div className="flex items-center gap-4">
          <Button type="submit" disabled={save.isPending}>
            Save
          </Button>
          <Saved when={save.isSuccess} />
        </div>
      )}
    </form>
  )
}
