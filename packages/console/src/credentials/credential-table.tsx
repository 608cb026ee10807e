import { useMutation, useQueryClient } from '@tanstack/react-query'
import type { Credential } from '@zbell/contract'
import { useMemo } from 'react'
import { keys } from '../app/live.ts'
import { usePlace } from '../app/place.ts'
import { Button } from '../parts/button.tsx'
import { type Column, DataTable } from '../parts/data-table.tsx'
import { Moment } from '../parts/moment.tsx'
import { Failure } from '../parts/page.tsx'

type Change = { readonly name: 'useCredential' | 'retireCredential' | 'checkCredential'; readonly id: string }

const columnsOf = (change: (one: Change) => void, busy: boolean): readonly Column<Credential>[] => [
  { name: 'state', title: 'State', always: true, cell: (one) => <State one={one} /> },
  {
    name: 'credential',
    title: 'Credential',
    always: true,
    width: 320,
    cell: (one) => (
      <>
        {one.kind} <span className="text-soft">for</span> {one.platform}
        <span className="block max-w-72 truncate text-sm text-soft">{one.keyId ?? one.subject ?? one.fingerprint}</span>
        {Object.entries(one.facts).map(([name, value]) => (
          <span key={name} className="block max-w-72 truncate text-sm text-soft">
            {name}: {value}
          </span>
        ))}
        {one.origins.length > 0 && (
          <span className="block max-w-72 truncate text-sm text-soft">for {one.origins.join(', ')}</span>
        )}
        {one.check && <Found check={one.check} />}
        {one.gatewayOutdatedFrom && (
          <span className="block max-w-96 text-sm text-red">
            <span aria-hidden="true">✕ </span>Its gateway profile is outdated from {one.gatewayOutdatedFrom}.
          </span>
        )}
      </>
    ),
  },
  { name: 'until', title: 'Valid until', always: true, wide: true, cell: (one) => <Validity one={one} /> },
  {
    name: 'used',
    title: 'Last used',
    always: true,
    wide: true,
    cell: (one) => (one.usedAt ? <Moment at={one.usedAt} /> : 'never'),
  },
  {
    name: 'act',
    title: 'Actions',
    always: true,
    align: 'end',
    width: 220,
    cell: (one) => <Acts one={one} change={change} busy={busy} />,
  },
]

type ActsProps = { readonly one: Credential; readonly change: (one: Change) => void; readonly busy: boolean }

function Acts({ one: { id, state, fingerprint }, change, busy }: ActsProps) {
  return (
    <span className="inline-flex flex-wrap justify-end gap-2">
      {(state === 'waiting' || (state === 'retired' && fingerprint)) && (
        <Button onClick={() => change({ name: 'useCredential', id })}>Put in use</Button>
      )}
      {(state === 'in-use' || state === 'waiting') && (
        <Button disabled={busy} onClick={() => change({ name: 'checkCredential', id })}>
          Check
        </Button>
      )}
      {(state === 'waiting' || state === 'requested') && (
        <Button onClick={() => change({ name: 'retireCredential', id })}>Retire</Button>
      )}
    </span>
  )
}

/** The credentials of an environment: which is in use, what the gateway thinks of it, and what can be done. */
export function CredentialTable({ items }: { readonly items: readonly Credential[] }) {
  const place = usePlace()
  const client = useQueryClient()
  const change = useMutation({
    mutationFn: ({ name, id }: Change) => place.call(name, { params: { id } }),
    onSettled: () => client.invalidateQueries({ queryKey: keys.credentials(place) }),
  })
  const { mutate, isPending } = change
  const columns = useMemo(() => columnsOf(mutate, isPending), [mutate, isPending])
  if (items.length === 0) {
    return (
      <p className="max-w-2xl">
        A credential is the secret that a platform’s gateway asks for: a certificate or a key, as you downloaded it
        there. None is here yet for {place.environment}; add one below.
      </p>
    )
  }
  return (
    <>
      {change.error && <Failure error={change.error} />}
      <DataTable label="Credentials" name="credentials" rows={items} idOf={(one) => one.id} columns={columns} cards />
    </>
  )
}

/** Until when; what is coming is announced by a shape and words. */
function Validity({ one }: { readonly one: Credential }) {
  if (one.notAfter === null) return '–'
  const date = new Date(one.notAfter).toLocaleDateString('en-GB', { dateStyle: 'medium' })
  if (one.expiresWithinDays === null) return date
  const over = one.expiresWithinDays === 0
  return (
    <span className={over ? 'text-red' : 'text-amber'}>
      <span aria-hidden="true">{over ? '✕' : '▲'} </span>
      {date}
      <span className="block text-sm">
        {over ? 'expired' : `within ${one.expiresWithinDays} ${one.expiresWithinDays === 1 ? 'day' : 'days'}`}
      </span>
    </span>
  )
}

const looks: Partial<
  Record<NonNullable<Credential['check']>['verdict'], { readonly tone: string; readonly shape: string }>
> = {
  works: { tone: 'text-sea', shape: '●' },
  'not-checkable': { tone: 'text-soft', shape: '–' },
}

/** What the last check found, and when. */
function Found({ check }: { readonly check: NonNullable<Credential['check']> }) {
  const { tone, shape } = looks[check.verdict] ?? { tone: 'text-red', shape: '✕' }
  return (
    <span className="block max-w-96 text-sm">
      <span className={tone}>
        <span aria-hidden="true">{shape} </span>
        {check.says}
      </span>{' '}
      <span className="whitespace-nowrap text-soft">
        <Moment at={check.at} />, {check.roundTripMs} ms
      </span>
    </span>
  )
}

function State({ one }: { readonly one: Credential }) {
  if (one.rejectedAt && one.state === 'in-use') {
    return (
      <>
        <span className="whitespace-nowrap text-red">
          <span aria-hidden="true">✕ </span>refused
        </span>
        <span className="block max-w-56 text-sm text-soft">
          by the gateway, since <Moment at={one.rejectedAt} />. Deliveries wait; add another one.
        </span>
      </>
    )
  }
  switch (one.state) {
    case 'in-use':
      return <span className="whitespace-nowrap text-sea">● in use</span>
    case 'waiting':
      return <span className="whitespace-nowrap text-amber">◌ waiting</span>
    case 'requested':
      return <span className="whitespace-nowrap text-amber">◔ awaits its certificate</span>
    case 'retired':
      return (
        <span className="text-soft">
          – retired
          <span className="block text-sm">
            {one.retiredAt && <Moment at={one.retiredAt} />} by {one.retiredBy}
          </span>
        </span>
      )
    default:
      return one.state satisfies never
  }
}
