import { useQuery } from '@tanstack/react-query'
import type { Device } from '@zbell/contract'
import { useState } from 'react'
import { Link } from 'react-router'
import { api } from '../app/api.ts'
import { keys } from '../app/live.ts'
import { usePlace } from '../app/place.ts'
import { type Column, Columns, useColumns } from '../parts/columns.tsx'
import { Exports } from '../parts/exports.tsx'
import { Moment } from '../parts/moment.tsx'
import { Empty, Failure, Page, Pager, Waiting } from '../parts/page.tsx'
import { Reach } from './reach.tsx'

type Sort = 'newest' | 'changed' | 'quietest'
type Filter = { readonly user: string; readonly platform: '' | Device['platform']; readonly sort: Sort }

export function DevicesPage() {
  const place = usePlace()
  const [filter, setFilter] = useState<Filter>({ user: '', platform: '', sort: 'newest' })
  const [after, setAfter] = useState<string>()
  const { data, error } = useQuery({
    queryKey: [...keys.devices(place), filter, after ?? ''],
    queryFn: () =>
      api.call('listDevices', {
        params: { app: place.app.slug },
        query: {
          environment: place.environment,
          limit: 50,
          sort: filter.sort,
          ...(filter.user ? { user: filter.user } : {}),
          ...(filter.platform ? { platform: filter.platform } : {}),
          ...(after ? { after } : {}),
        },
      }),
    placeholderData: (before) => before,
  })
  const choose = (part: Partial<Filter>) => {
    setAfter(undefined)
    setFilter({ ...filter, ...part })
  }
  const columns = useColumns('devices', all)
  const filtered = filter.user !== '' || filter.platform !== ''
  return (
    <Page title="Devices" asks="Which installations can be rung, and which cannot?">
      <search className="mb-4 flex flex-wrap items-end gap-4">
        <label className="grid text-sm text-soft">
          Person
          <input
            value={filter.user}
            onChange={(event) => choose({ user: event.target.value.trim() })}
            placeholder="ada"
            className="w-48"
          />
        </label>
        <label className="grid text-sm text-soft">
          Platform
          <select
            value={filter.platform}
            onChange={(event) => choose({ platform: event.target.value as Filter['platform'] })}
            className="w-36"
          >
            <option value="">all</option>
            <option value="ios">ios</option>
            <option value="android">android</option>
            <option value="web">web</option>
          </select>
        </label>
        <label className="grid text-sm text-soft">
          Order
          <select
            value={filter.sort}
            onChange={(event) => choose({ sort: event.target.value as Sort })}
            className="w-44"
          >
            <option value="newest">newest first</option>
            <option value="changed">last heard of first</option>
            <option value="quietest">quietest first</option>
          </select>
        </label>
        <Columns all={all} columns={columns} />
        <Exports what="devices" />
      </search>
      {error ? (
        <Failure error={error} />
      ) : !data ? (
        <Waiting />
      ) : (
        <List items={data.items} filtered={filtered} columns={columns.shown} />
      )}
      <Pager
        next={data?.next ?? null}
        onNext={() => setAfter(data?.next ?? undefined)}
        {...(after ? { onFirst: () => setAfter(undefined) } : {})}
      />
    </Page>
  )
}

const all: readonly Column<Device>[] = [
  { name: 'locale', title: 'Language', cell: (one) => one.locale ?? '–', preset: true },
  { name: 'timeZone', title: 'Zone', cell: (one) => one.timeZone ?? '–', preset: false },
  { name: 'seenAt', title: 'Seen', cell: (one) => <Moment at={one.seenAt} />, preset: true },
  {
    name: 'receiptAt',
    title: 'Last receipt',
    cell: (one) => (one.receiptAt ? <Moment at={one.receiptAt} /> : 'never'),
    preset: true,
  },
  { name: 'registeredAt', title: 'Registered', cell: (one) => <Moment at={one.registeredAt} />, preset: false },
  { name: 'appVersion', title: 'App version', cell: (one) => one.appVersion ?? '–', preset: false },
  { name: 'systemVersion', title: 'System', cell: (one) => one.systemVersion ?? '–', preset: false },
]

type ListProps = {
  readonly items: readonly Device[]
  readonly filtered: boolean
  readonly columns: readonly Column<Device>[]
}

function List({ items, filtered, columns }: ListProps) {
  if (items.length === 0 && filtered) return <p>No device fits this filter.</p>
  if (items.length === 0) {
    return (
      <Empty
        what="A device is one installation of the app. It registers itself with the app key, and then appears here at once."
        example={
          'POST /v1/devices\nAuthorization: Bearer zb-app-…\n\n{ "platform": "ios", "token": "…", "permission": "granted", "user": "ada" }'
        }
      />
    )
  }
  return (
    <table className="w-full">
      <thead>
        <tr>
          <th scope="col">Person</th>
          <th scope="col">Device</th>
          <th scope="col">Can it be rung?</th>
          {columns.map(({ name, title }) => (
            <th key={name} scope="col" className="max-md:hidden">
              {title}
            </th>
          ))}
        </tr>
      </thead>
      <tbody>
        {items.map((device) => (
          <tr key={device.id}>
            <td>
              {device.user ? (
                <Link to={`/people/${encodeURIComponent(device.user)}`}>{device.user}</Link>
              ) : (
                <span className="text-soft">anonymous</span>
              )}
            </td>
            <td>
              <Link to={`/devices/${device.id}`}>{device.model ?? device.platform}</Link>
              <span className="block text-sm text-soft">
                {device.platform}
                {device.appVersion && `, app ${device.appVersion}`}
              </span>
            </td>
            <td>
              <Reach device={device} />
            </td>
            {columns.map(({ name, cell }) => (
              <td key={name} className="max-md:hidden">
                {cell(device)}
              </td>
            ))}
          </tr>
        ))}
      </tbody>
    </table>
  )
}
