import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import type { Key } from '@zbell/contract'
import { keyRequest } from '@zbell/contract/forms'
import { useState } from 'react'
import { api } from '../app/api.ts'
import { keys as queryKeys } from '../app/live.ts'
import { usePlace } from '../app/place.ts'
import { Button } from '../parts/button.tsx'
import { type Column, DataTable } from '../parts/data-table.tsx'
import { Confirm } from '../parts/dialog.tsx'
import { ChoiceInput, Form, TextInput, useRequestForm } from '../parts/form.tsx'
import { Moment } from '../parts/moment.tsx'
import { Loaded } from '../parts/page.tsx'
import type { Option } from '../parts/select.tsx'
import { ShownOnce } from '../parts/shown-once.tsx'

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
        <Loaded of={{ data: own, error }}>{(own) => <KeyTable items={own} />}</Loaded>
      </div>
      <MakeKey key={place.environment} />
    </section>
  )
}

const may: Record<NonNullable<Key['role']>, string> = {
  viewer: 'reads',
  sender: 'reads and sends',
  owner: 'full access',
}

const columns: readonly Column<Key>[] = [
  {
    name: 'key',
    title: 'Key',
    always: true,
    cell: (one) => (
      <>
        <bdi>{one.name}</bdi>
        <span className="block text-sm text-soft">
          {one.kind} key, made <Moment at={one.createdAt} /> by {one.createdBy}
        </span>
      </>
    ),
  },
  {
    name: 'may',
    title: 'Role',
    always: true,
    cell: (one) =>
      one.revokedAt ? (
        <span className="text-soft">
          – revoked <Moment at={one.revokedAt} /> by {one.revokedBy}
        </span>
      ) : (
        <span className="text-sea">
          <span aria-hidden="true">● </span>
          {one.role === null ? 'registers devices' : may[one.role]}
        </span>
      ),
  },
  {
    name: 'used',
    title: 'Last used',
    always: true,
    wide: true,
    width: 150,
    cell: (one) => (one.usedAt ? <Moment at={one.usedAt} /> : 'never'),
  },
  {
    name: 'act',
    title: 'Actions',
    always: true,
    align: 'end',
    width: 120,
    cell: (one) => !one.revokedAt && <Revoke one={one} />,
  },
]

function KeyTable({ items }: { readonly items: readonly Key[] }) {
  if (items.length === 0) {
    return (
      <p className="mt-2 max-w-2xl">
        A backend key stays on your server and sends; an app key ships inside the app and only registers devices. There
        is none yet; make one below.
      </p>
    )
  }
  return <DataTable label="Keys" name="keys" rows={items} idOf={(one) => one.id} columns={columns} />
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
  { value: 'owner', label: 'backend: full access' },
  { value: 'sender', label: 'backend: reads and sends' },
  { value: 'viewer', label: 'backend: reads' },
  { value: 'app', label: 'app: registers devices' },
]

function MakeKey() {
  const place = usePlace()
  const client = useQueryClient()
  const [made, setMade] = useState<string>()
  const filled = useRequestForm({
    schema: keyRequest,
    first: { name: '', may: 'owner' as May },
    requestOf: ({ name, may }) => ({
      name: name.trim(),
      environment: place.environment,
      ...(may === 'app' ? { kind: 'app' as const } : { kind: 'backend' as const, role: may }),
    }),
  })
  return (
    <Form
      of={filled}
      submit="Make a key"
      clears
      className="max-w-xl"
      onSubmit={async (body) => {
        const { key } = await api.call('makeKey', { params: { app: place.app.slug }, body })
        setMade(key)
        await client.invalidateQueries({ queryKey: queryKeys.appKeys(place) })
      }}
      result={made && <ShownOnce secret={made} />}
    >
      <h2>Make a key</h2>
      <div className="grid gap-4 sm:grid-cols-2">
        <TextInput of={filled} name="name" label="Its name" hint="Who will use it" placeholder="Sailing board" />
        <ChoiceInput
          of={filled}
          name="may"
          label="Role"
          hint="An app key ships inside the app; the others stay on a server"
          options={mays}
        />
      </div>
    </Form>
  )
}
