import { useQuery } from '@tanstack/react-query'
import type { Gateway } from '@zbell/contract'
import { Link } from 'react-router'
import { keys } from '../app/live.ts'
import { usePlace } from '../app/place.ts'
import { type Column, DataTable } from '../parts/data-table.tsx'
import { Loaded, Page } from '../parts/page.tsx'
import { whose } from './whose.ts'

const columns: readonly Column<Gateway>[] = [
  {
    name: 'platform',
    title: 'Platform',
    always: true,
    width: 110,
    cell: ({ platform }) => (platform === 'web' ? platform : <Link to={`/gateways/${platform}`}>{platform}</Link>),
  },
  {
    name: 'profile',
    title: 'Profile',
    always: true,
    cell: (one) => (
      <>
        {one.profile !== null && <code className="text-sm">{one.profile}</code>}
        <span className="block text-sm text-soft">{whose(one)}</span>
        {one.outdatedFrom && (
          <span className="block text-sm text-red">
            <span aria-hidden="true">✕ </span>outdated from {one.outdatedFrom}
          </span>
        )}
      </>
    ),
  },
  {
    name: 'origin',
    title: 'Where it is',
    always: true,
    wide: true,
    cell: ({ platform, origin }) => (
      <span className="text-sm wrap-anywhere">{origin ?? (platform === 'web' ? 'each browser’s own' : '–')}</span>
    ),
  },
  { name: 'asks', title: 'Asks for', always: true, wide: true, width: 170, cell: ({ asksFor }) => asksFor ?? '–' },
  {
    name: 'bytes',
    title: 'Bytes',
    wide: true,
    align: 'end',
    width: 90,
    cell: ({ bodyBytes }) => bodyBytes?.toLocaleString('en') ?? '–',
  },
]

/** How the app speaks to each platform's gateway. */
export function GatewaysPage() {
  const place = usePlace()
  const { data, error } = useQuery({
    queryKey: keys.gateways(place),
    queryFn: () => place.call('listGateways'),
  })
  return (
    <Page title="Gateways" asks="How requests to each platform’s gateway are made">
      <Loaded of={{ data, error }} lines={3}>
        {(data) => (
          <DataTable
            label="Gateways"
            name="gateways"
            rows={data.items}
            idOf={({ platform }) => platform}
            columns={columns}
          />
        )}
      </Loaded>
    </Page>
  )
}
