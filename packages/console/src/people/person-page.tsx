import { useQuery } from '@tanstack/react-query'
import type { WholePerson } from '@zbell/contract'
import { sayValue } from '@zbell/contract/words'
import { Link, useParams } from 'react-router'
import { keys } from '../app/live.ts'
import { usePlace } from '../app/place.ts'
import { useSeen } from '../app/seen.ts'
import { sayWindow } from '../channels/coverage.ts'
import { Reach } from '../devices/reach.tsx'
import { ActionLink } from '../parts/button.tsx'
import { Moment } from '../parts/moment.tsx'
import { Failure, Page, Waiting } from '../parts/page.tsx'
import { Follows } from './follows.tsx'

export function PersonPage() {
  const place = usePlace()
  const { user = '' } = useParams()
  const { data, error } = useQuery({
    queryKey: [...keys.people(place), 'one', user],
    queryFn: () => place.call('readUser', { params: { user } }),
  })
  useSeen('person', data && user)
  return (
    <Page
      title={user}
      asks="What is known of this person?"
      crumbs={[{ to: '/people', name: 'People' }]}
      action={
        <ActionLink rank="primary" to={`/write?to=user:${encodeURIComponent(user)}`}>
          Ring this one
        </ActionLink>
      }
    >
      {error ? <Failure error={error} /> : !data && <Waiting />}
      {data && (
        <div className="grid gap-x-14 gap-y-10 lg:grid-cols-2">
          <section aria-labelledby="facts">
            <h2 id="facts">Attributes</h2>
            <dl className="mt-2">
              {Object.entries(data.attributes).map(([name, value]) => (
                <div key={name} className="grid grid-cols-[9rem_1fr] gap-4 border-t border-line py-2">
                  <dt className="text-soft">{name}</dt>
                  <dd>
                    <bdi>{sayValue(value)}</bdi>
                  </dd>
                </div>
              ))}
            </dl>
            {Object.keys(data.attributes).length === 0 && <p className="text-soft">None yet.</p>}
            <h2 className="mt-8">Topics</h2>
            <Follows user={user} topics={data.topics} />
            <h2 className="mt-8">What they want less of</h2>
            <Less mutedChannels={data.mutedChannels} quietHours={data.quietHours} />
          </section>
          <section aria-labelledby="own-devices">
            <h2 id="own-devices">Devices</h2>
            <ul className="mt-2">
              {data.devices.map((device) => (
                <li key={device.id} className="grid grid-cols-[1fr_auto] gap-4 border-t border-line py-2">
                  <span>
                    <Link to={`/devices/${device.id}`}>{device.model ?? device.platform}</Link>
                    <span className="block text-sm text-soft">
                      {device.platform}, seen <Moment at={device.seenAt} />
                    </span>
                  </span>
                  <span>
                    <Reach device={device} />
                  </span>
                </li>
              ))}
            </ul>
            {data.devices.length === 0 && <p className="text-soft">None: nothing can ring this person.</p>}
            <h2 className="mt-8">What happened</h2>
            <ol className="mt-2">
              {data.occurrences.map(({ id, source, type, at }) => (
                <li key={`${source} ${id}`} className="border-t border-line py-2">
                  {type}{' '}
                  <span className="text-sm text-soft">
                    <Moment at={at} />, {source}
                  </span>
                </li>
              ))}
            </ol>
            {data.occurrences.length === 0 && <p className="text-soft">Nothing was reported.</p>}
          </section>
        </div>
      )}
    </Page>
  )
}

/** What somebody muted, and the hours in which nothing rings for them. */
function Less({ mutedChannels, quietHours }: Pick<WholePerson, 'mutedChannels' | 'quietHours'>) {
  if (mutedChannels.length === 0 && quietHours.length === 0)
    return <p className="mt-2 text-soft">Nothing: no channel is muted, and no quiet hours are their own.</p>
  return (
    <ul className="mt-2">
      {mutedChannels.map((channel) => (
        <li key={channel} className="border-t border-line py-2">
          <span className="font-mono text-sm">{channel}</span> is muted
        </li>
      ))}
      {quietHours.map((window) => (
        <li key={JSON.stringify(window)} className="border-t border-line py-2">
          {sayWindow(window)}
        </li>
      ))}
    </ul>
  )
}
