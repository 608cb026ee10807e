import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import type { GatewayText, GatewayVersion } from '@zbell/contract'
import { useMemo } from 'react'
import { keys } from '../app/live.ts'
import { usePlace } from '../app/place.ts'
import { Button } from '../parts/button.tsx'
import { type Column, DataTable } from '../parts/data-table.tsx'
import { Moment } from '../parts/moment.tsx'
import { Failure } from '../parts/page.tsx'

const states: Readonly<Record<GatewayVersion['state'], { readonly word: string; readonly tone: string }>> = {
  'in-use': { word: '● in use', tone: 'text-sea' },
  waiting: { word: '◌ waiting', tone: 'text-amber' },
  retired: { word: '– retired', tone: 'text-soft' },
}

const columnsOf = (use: (version: number) => void, busy: boolean): readonly Column<GatewayVersion>[] => [
  { name: 'version', title: 'Version', always: true, align: 'end', width: 100, cell: ({ version }) => version },
  {
    name: 'state',
    title: 'State',
    always: true,
    width: 130,
    cell: ({ state }) => <span className={states[state].tone}>{states[state].word}</span>,
  },
  {
    name: 'profile',
    title: 'Profile',
    always: true,
    cell: ({ profile }) => <code className="text-sm wrap-anywhere">{profile}</code>,
  },
  { name: 'asks', title: 'Asks for', wide: true, width: 150, cell: ({ asksFor }) => asksFor ?? '–' },
  { name: 'made', title: 'Created', wide: true, width: 170, cell: ({ madeAt }) => <Moment at={madeAt} /> },
  { name: 'by', title: 'By', wide: true, cell: ({ madeBy }) => <bdi>{madeBy}</bdi> },
  {
    name: 'act',
    title: 'Actions',
    always: true,
    align: 'end',
    width: 150,
    cell: ({ version, state }) =>
      state !== 'in-use' && (
        <Button busy={busy} onClick={() => use(version)} aria-label={`Put version ${version} in use`}>
          Put in use
        </Button>
      ),
  },
]

/** The versions of the app's own profile; each can be put in use again, and the configuration's as well. */
export function Versions({ platform, now }: { readonly platform: string; readonly now: GatewayText }) {
  const place = usePlace()
  const client = useQueryClient()
  const params = { platform }
  const listed = useQuery({
    queryKey: [...keys.gateways(place), platform, 'versions'],
    queryFn: () => place.all('listGatewayVersions', { params }),
  })
  const change = useMutation({
    mutationFn: (version: number | undefined) =>
      version === undefined
        ? place.call('dropGateway', { params })
        : place.call('useGatewayVersion', { params: { ...params, version: String(version) } }),
    onSuccess: async () => {
      await client.invalidateQueries({ queryKey: keys.gateways(place) })
      await client.invalidateQueries({ queryKey: keys.setup(place) })
    },
  })
  const { mutate, isPending } = change
  const columns = useMemo(() => columnsOf(mutate, isPending), [mutate, isPending])
  if (listed.error) return <Failure error={listed.error} />
  if (!listed.data || listed.data.length === 0) return null
  return (
    <section aria-labelledby="versions" className="grid gap-3">
      <h2 id="versions">Versions</h2>
      {change.error && <Failure error={change.error} />}
      <DataTable
        label="Versions"
        name="gateway-versions"
        rows={listed.data}
        idOf={({ version }) => String(version)}
        columns={columns}
      />
      {now.version !== null && (
        <div>
          <Button rank="quiet" busy={isPending} onClick={() => mutate(undefined)}>
            Go back to what the service’s configuration names
          </Button>
        </div>
      )}
    </section>
  )
}
