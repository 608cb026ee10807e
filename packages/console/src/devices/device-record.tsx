import { useQuery } from '@tanstack/react-query'
import { Link } from 'react-router'
import { keys } from '../app/live.ts'
import { usePlace } from '../app/place.ts'
import { Moment } from '../parts/moment.tsx'
import { Failure, Waiting } from '../parts/page.tsx'
import { StateWord } from '../parts/states.tsx'

/** What happened to a device: permission, tokens, topics, and what rang. */
export function RecordOf({ id }: { readonly id: string }) {
  const place = usePlace()
  const { data, error } = useQuery({
    queryKey: [...keys.devices(place), id, 'record'],
    queryFn: () => place.call('readDeviceRecord', { params: { id } }),
    refetchInterval: 5_000,
  })
  if (error) return <Failure error={error} />
  if (!data) return <Waiting />
  return (
    <div>
      <section aria-labelledby="rang">
        <h2 id="rang">What rang here</h2>
        <ol className="mt-2">
          {data.deliveries.slice(0, 12).map((one) => (
            <li key={one.notification} className="grid grid-cols-[1fr_auto] gap-x-4 border-t border-line py-2">
              <Link to={`/activity/${one.notification}`}>
                <bdi>{one.title || 'Wakes the app'}</bdi>
              </Link>
              <StateWord state={one.state} />
              <span className="text-sm text-soft">{one.detail}</span>
              <span className="text-end text-sm text-soft">
                <Moment at={one.at} />
              </span>
            </li>
          ))}
        </ol>
        {data.deliveries.length === 0 && <p className="text-soft">Nothing among the app’s last notifications.</p>}
      </section>
      <section aria-labelledby="events" className="mt-8">
        <h2 id="events">What happened to it</h2>
        <ol className="mt-2">
          {data.events.map(({ event, says, detail, at }) => (
            <li key={`${at} ${event}`} className="grid grid-cols-[1fr_auto] gap-x-4 border-t border-line py-2">
              <span>
                {says} {detail && <span className="text-soft">({detail})</span>}
              </span>
              <span className="text-sm text-soft">
                <Moment at={at} />
              </span>
            </li>
          ))}
        </ol>
        {data.events.length === 0 && <p className="text-soft">It registered, and nothing has changed since.</p>}
      </section>
      {data.topics.length > 0 && (
        <section aria-labelledby="follows" className="mt-8">
          <h2 id="follows">It follows</h2>
          <p className="mt-1">{data.topics.map(({ topic }) => topic).join(', ')}</p>
        </section>
      )}
    </div>
  )
}
