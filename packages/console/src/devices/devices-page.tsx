import { useQuery } from '@tanstack/react-query'
import type { Device } from '@zbell/contract'
import { type DeviceSort, deviceSorts } from '@zbell/contract/words'
import { Link } from 'react-router'
import { keys } from '../app/live.ts'
import { usePlace } from '../app/place.ts'
import { type Column, DataTable } from '../parts/data-table.tsx'
import { Exports } from '../parts/exports.tsx'
import { ChoiceFilter, FilterBar, TextFilter, useFilters } from '../parts/filters.tsx'
import { Moment } from '../parts/moment.tsx'
import { useOrder } from '../parts/order.ts'
import { Empty, Loaded, Page, Pager } from '../parts/page.tsx'
import { Reach } from './reach.tsx'

const columns: readonly Column<Device, DeviceSort>[] = [
  {
    name: 'user',
    title: 'Person',
    sort: 'user',
    always: true,
    cell: ({ user }) =>
      user ? (
        <Link to={`/people/${encodeURIComponent(user)}`}>
          <bdi>{user}</bdi>
        </Link>
      ) : (
        <span className="text-soft">anonymous</span>
      ),
  },
  {
    name: 'model',
    title: 'Device',
    sort: 'model',
    always: true,
    cell: ({ id, model, platform, appVersion }) => (
      <>
        <Link to={`/devices/${id}`}>{model ?? platform}</Link>
        <span className="block text-sm text-soft">
          {platform}
          {appVersion && `, app ${appVersion}`}
        </span>
      </>
    ),
  },
  { name: 'reach', title: 'Can it be rung?', sort: 'reach', always: true, cell: (one) => <Reach device={one} /> },
  { name: 'locale', title: 'Language', sort: 'locale', wide: true, cell: (one) => one.locale ?? '–' },
  { name: 'timeZone', title: 'Zone', sort: 'timeZone', wide: true, hidden: true, cell: (one) => one.timeZone ?? '–' },
  { name: 'seenAt', title: 'Last seen', sort: 'seenAt', wide: true, cell: (one) => <Moment at={one.seenAt} /> },
  {
    name: 'receiptAt',
    title: 'Last receipt',
    sort: 'receiptAt',
    wide: true,
    cell: (one) => (one.receiptAt ? <Moment at={one.receiptAt} /> : 'never'),
  },
  {
    name: 'changedAt',
    title: 'Changed',
    sort: 'changedAt',
    wide: true,
    hidden: true,
    cell: (one) => <Moment at={one.changedAt} />,
  },
  {
    name: 'registeredAt',
    title: 'Registered',
    sort: 'registeredAt',
    wide: true,
    cell: (one) => <Moment at={one.registeredAt} />,
  },
  {
    name: 'appVersion',
    title: 'App version',
    sort: 'appVersion',
    wide: true,
    hidden: true,
    cell: (one) => one.appVersion ?? '–',
  },
  {
    name: 'systemVersion',
    title: 'System',
    sort: 'systemVersion',
    wide: true,
    hidden: true,
    cell: (one) => one.systemVersion ?? '–',
  },
]

type Platform = '' | Device['platform']
const platforms = [
  { value: '', label: 'all' },
  { value: 'ios', label: 'ios' },
  { value: 'android', label: 'android' },
  { value: 'web', label: 'web' },
] as const satisfies readonly { value: Platform; label: string }[]

export function DevicesPage() {
  const place = usePlace()
  const { user, platform, after, set, goOn } = useFilters('user', 'platform')
  const order = useOrder<DeviceSort>('registeredAt', deviceSorts)
  const { sort, direction } = order
  const { data, error, refetch } = useQuery({
    queryKey: [...keys.devices(place), user, platform, sort, direction, after ?? ''],
    queryFn: () =>
      place.call('listDevices', {
        query: {
          limit: 50,
          sort,
          direction,
          ...(user ? { user } : {}),
          ...(platform ? { platform: platform as Device['platform'] } : {}),
          ...(after ? { after } : {}),
        },
      }),
    placeholderData: (before) => before,
  })
  const filters = (
    <FilterBar set={[user, platform].filter(Boolean).length}>
      <TextFilter label="Person" value={user} example="ada" onChange={(text) => set('user', text.trim())} />
      <ChoiceFilter
        label="Platform"
        value={platform as Platform}
        options={platforms}
        onChange={(value) => set('platform', value)}
      />
      <Exports what="devices" />
    </FilterBar>
  )
  return (
    <Page title="Devices" asks="Which installations can be rung, and which cannot?">
      <Loaded of={{ data, error }} onAgain={() => void refetch()}>
        {(data) =>
          data.items.length === 0 && !user && !platform ? (
            <Empty
              what="A device is one installation of the app. It registers itself with the app key, and then appears here at once."
              example={
                'POST /v1/devices\nAuthorization: Bearer zb-app-…\n\n{ "platform": "ios", "token": "…", "permission": "granted", "user": "ada" }'
              }
            />
          ) : (
            <DataTable
              label="Devices"
              name="devices"
              rows={data.items}
              idOf={(one) => one.id}
              columns={columns}
              order={order}
              tools={filters}
              none="No device fits this filter."
            />
          )
        }
      </Loaded>
      <Pager next={data?.next} after={after} onGo={goOn} />
    </Page>
  )
}
