import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import type { Key } from '@zbell/contract'
import { type FormEvent, useState } from 'react'
import { api } from '../app/api.ts'
import { faultsOf } from '../app/failures.ts'
import { keys as queryKeys } from '../app/live.ts'
import { usePlace } from '../app/place.ts'
import { Button } from '../parts/button.tsx'
import { Confirm } from '../parts/dialog.tsx'
import { Field } from '../parts/field.tsx'
import { Moment } from '../parts/moment.tsx'
import { Failure, Waiting } from '../parts/page.tsx'
import { type Option, Select } from '../parts/select.tsx'

/** The keys of the app in this environment: who may speak for it. */
export function Keys() {
  const place = usePlace()
  const { data, error } = useQuery({
    queryKey: queryKeys.appKeys(place),
    queryFn: () => api.all('listKeys', { params: { app: place.app.slug } }),
  })
  const own = data?.filter((one) => one.environment === place.environment)
  return (
    <section aria-labelledby="keys" className="grid content-start gap-8">
      <div>
        <h2 id="keys">Keys in {place.environment}</h2>
        {error ? <Failure error={error} /> : own ? <KeyTable items={own} /> : <Waiting />}
      </div>
      <MakeKey key={place.environment} />
    </section>
  )
}

const may: Record<NonNullable<Key['role']>, string> = {
  viewer: 'reads',
  sender: 'reads and sends',
  owner: 'does all',
}

function KeyTable({ items }: { readonly items: readonly Key[] }) {
  if (items.length === 0) {
    return (
      <p className="mt-2 max-w-2xl">
        A backend key stays on your server and sends; an app key ships inside the app and only registers devices. There
        is none yet; make one below.
      </p>
    )
  }
  return (
    <table className="mt-2 w-full">
      <thead>
        <tr>
          <th scope="col">Key</th>
          <th scope="col">May</th>
          <th scope="col" className="max-md:hidden">
            Last used
          </th>
          <th scope="col" className="pe-0">
            <span className="sr-only">What to do</span>
          </th>
        </tr>
      </thead>
      <tbody>
        {items.map((one) => (
          <tr key={one.id}>
            <td>
              {one.name}
              <span className="block text-sm text-soft">
                {one.kind} key, made <Moment at={one.createdAt} /> by {one.createdBy}
              </span>
            </td>
            <td>
              {one.revokedAt ? (
                <span className="text-soft">
                  – revoked <Moment at={one.revokedAt} /> by {one.revokedBy}
                </span>
              ) : (
                <span className="whitespace-nowrap text-sea">
                  <span aria-hidden="true">● </span>
                  {one.role === null ? 'registers devices' : may[one.role]}
                </span>
              )}
            </td>
            <td className="max-md:hidden">{one.usedAt ? <Moment at={one.usedAt} /> : 'never'}</td>
            <td className="pe-0 text-end">{!one.revokedAt && <Revoke one={one} />}</td>
          </tr>
        ))}
      </tbody>
    </table>
  )
}

function Revoke({ one }: { readonly one: Key }) {
  const place = usePlace()
  const client = useQueryClient()
  const revoke = useMutation({
    mutationFn: () => api.call('revokeKey', { params: { app: place.app.slug, id: one.id } }),
    onSettled: () => client.invalidateQueries({ queryKey: queryKeys.appKeys(place) }),
  })
  return (
    <Confirm
      title={`Revoke “${one.name}”?`}
      yes="Revoke it"
      onYes={() => revoke.mutate()}
      trigger={<Button rank="quiet">Revoke</Button>}
    >
      {one.kind === 'app'
        ? 'Apps that carry this key can register no new device from this moment on; devices that are registered stay so. It cannot be taken back.'
        : 'Whoever uses this key gets no answer any more from this moment on. It cannot be taken back.'}
    </Confirm>
  )
}

type May = 'owner' | 'sender' | 'viewer' | 'app'
const mays: readonly Option<May>[] = [
  { value: 'owner', label: 'backend: does all' },
  { value: 'sender', label: 'backend: reads and sends' },
  { value: 'viewer', label: 'backend: reads' },
  { value: 'app', label: 'app: registers devices' },
]

function MakeKey() {
  const place = usePlace()
  const client = useQueryClient()
  const [name, setName] = useState('')
  const [may, setMay] = useState<May>('owner')
  const make = useMutation({
    mutationFn: () =>
      api.call('makeKey', {
        params: { app: place.app.slug },
        body: {
          name: name.trim(),
          environment: place.environment,
          ...(may === 'app' ? { kind: 'app' as const } : { kind: 'backend' as const, role: may }),
        },
      }),
    onSuccess: () => {
      setName('')
      return client.invalidateQueries({ queryKey: queryKeys.appKeys(place) })
    },
  })
  const submit = (event: FormEvent) => {
    event.preventDefault()
    make.mutate()
  }
  const faults = faultsOf(make.error)
  return (
    <form onSubmit={submit} noValidate className="grid max-w-xl gap-4">
      <h2>Make a key</h2>
      <div className="grid gap-4 sm:grid-cols-2">
        <Field label="Its name" hint="Who will use it" fault={faults['/name']}>
          {(props) => (
            <input {...props} value={name} placeholder="Sailing board" onChange={(e) => setName(e.target.value)} />
          )}
        </Field>
        <Field label="What it may" hint="An app key ships inside the app; the others stay on a server">
          {(props) => <Select {...props} value={may} options={mays} onChange={setMay} />}
        </Field>
      </div>
      {make.error && Object.keys(faults).length === 0 && <Failure error={make.error} />}
      {make.data && (
        <div role="status">
          <p className="font-semibold">Copy it now; it is shown this once.</p>
          <p className="mt-1 rounded-md bg-sunken px-4 py-3 font-mono text-sm break-all select-all">{make.data.key}</p>
        </div>
      )}
      <div>
        <Button type="submit" disabled={make.isPending || name.trim() === ''}>
          Make a key
        </Button>
      </div>
    </form>
  )
}
