import { useQuery } from '@tanstack/react-query'
import type { Device } from '@zbell/contract'
import { type DeviceSort, deviceSorts } from '@zbell/contract/words'
import { useState } from 'react'
import { Link } from 'react-router'
import { api } from '../app/api.ts'
import { keys } from '../app/live.ts'
import { usePlace } from '../app/place.ts'
import { type Column, Columns, useColumns } from '../parts/columns.tsx'
import { Exports } from '../parts/exports.tsx'
import { Moment } from '../parts/moment.tsx'
import { type Order, OrderedHead, useOrder } from '../parts/order.tsx'
import { Empty, Failure, Page, Pager, Waiting } from '../parts/page.tsx'
import { Reach } from './reach.tsx'

type Filter = { readonly user: string; readonly platform: '' | Device['platform'] }

export function DevicesPage() {
  const place = usePlace()
  const [filter, setFilter] = useState<Filter>({ user: '', platform: '' })
  const [after, setAfter] = useState<string>()
  const order = useOrder<DeviceSort>(
    'registeredAt',
    (column) => deviceSorts[column],
    () => setAfter(undefined),
  )
  const { sort, direction } = order
  const { data, error } = useQuery({
    queryKey: [...keys.devices(place), filter, sort, direction, after ?? ''],
    queryFn: () =>
      api.call('listDevices', {
        params: { app: place.app.slug },
        query: {
          environment: place.environment,
          limit: 50,
          sort,
          direction,
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
        <Columns all={all} columns={columns} />
        <Exports what="devices" />
      </search>
      {error ? (
        <Failure error={error} />
      ) : !data ? (
        <Waiting />
      ) : (
        <List items={data.items} filtered={filtered} columns={columns.shown} order={order} />
      )}
      <Pager
        next={data?.next ?? null}
        onNext={() => setAfter(data?.next ?? undefined)}
        {...(after ? { onFirst: () => setAfter(undefined) } : {})}
      />
    </Page>
  )
}

const all: readonly Column<Device, DeviceSort>[] = [
  { name: 'locale', title: 'Language', cell: (one) => one.locale ?? '–', preset: true },
  { name: 'timeZone', title: 'Zone', cell: (one) => one.timeZone ?? '–', preset: false },
  { name: 'seenAt', title: 'Seen', cell: (one) => <Moment at={one.seenAt} />, preset: true },
  {
    name: 'receiptAt',
    title: 'Last receipt',
    cell: (one) => (one.receiptAt ? <Moment at={one.receiptAt} /> : 'never'),
    preset: true,
  },
  { name: 'changedAt', title: 'Changed', cell: (one) => <Moment at={one.changedAt} />, preset: false },
  { name: 'registeredAt', title: 'Registered', cell: (one) => <Moment at={one.registeredAt} />, preset: true },
  { name: 'appVersion', title: 'App version', cell: (one) => one.appVersion ?? '–', preset: false },
  { name: 'systemVersion', title: 'System', cell: (one) => one.systemVersion ?? '–', preset: false },
]

type ListProps = {
  readonly items: readonly Device[]
  readonly filtered: boolean
  readonly columns: readonly Column<Device, DeviceSort>[]
  readonly order: Order<DeviceSort>
}

function List({ items, filtered, columns, order }: ListProps) {
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
          <OrderedHead title="Person" column="user" order={order} />
          <OrderedHead title="Device" column="model" order={order} />
          <OrderedHead title="Can it be rung?" column="reach" order={order} />
          {columns.map(({ name, title }) => (
            <OrderedHead key={name} title={title} column={name} order={order} className="max-md:hidden" />
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
