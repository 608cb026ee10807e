import { useQuery } from '@tanstack/react-query'
import type { Device } from '@zbell/contract'
import { useState } from 'react'
import { Link } from 'react-router'
import { api } from '../app/api.ts'
import { keys } from '../app/live.ts'
import { usePlace } from '../app/place.ts'
import { Moment } from '../parts/moment.tsx'
import { Empty, Failure, Page, Pager, Waiting } from '../parts/page.tsx'
import { Reach } from './reach.tsx'

type Filter = { readonly user: string; readonly platform: '' | Device['platform'] }

export function DevicesPage() {
  const place = usePlace()
  const [filter, setFilter] = useState<Filter>({ user: '', platform: '' })
  const [after, setAfter] = useState<string>()
  const { data, error } = useQuery({
    queryKey: [...keys.devices(place), filter, after ?? ''],
    queryFn: () =>
      api.call('listDevices', {
        params: { app: place.app.slug },
        query: {
          environment: place.environment,
          limit: 50,
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
  const filtered = filter.user !== '' || filter.platform !== ''
  return (
    <Page title="Devices" asks="Which installations can be rung, and which cannot?">
      <search className="mb-4 flex flex-wrap gap-4">
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
      </search>
      {error ? <Failure error={error} /> : !data ? <Waiting /> : <List items={data.items} filtered={filtered} />}
      <Pager
        next={data?.next ?? null}
        onNext={() => setAfter(data?.next ?? undefined)}
        {...(after ? { onFirst: () => setAfter(undefined) } : {})}
      />
    </Page>
  )
}

function List({ items, filtered }: { readonly items: readonly Device[]; readonly filtered: boolean }) {
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
          <th scope="col" className="max-md:hidden">
            Language
          </th>
          <th scope="col" className="pe-0 max-md:hidden">
            Seen
          </th>
        </tr>
      </thead>
      <tbody>
        {items.map((device) => (
          <tr key={device.id}>
            <td>{device.user ?? <span className="text-soft">anonymous</span>}</td>
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
            <td className="max-md:hidden">{device.locale ?? '–'}</td>
            <td className="pe-0 max-md:hidden">
              <Moment at={device.seenAt} />
            </td>
          </tr>
        ))}
      </tbody>
    </table>
  )
}
