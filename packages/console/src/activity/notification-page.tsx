import { useQuery } from '@tanstack/react-query'
import type { Delivery, Notification, Progress } from '@zbell/contract'
import { sayTarget } from '@zbell/contract/words'
import { Link, useParams, useSearchParams } from 'react-router'
import { keys, notificationQuery, useLiveNotification } from '../app/live.ts'
import { usePlace } from '../app/place.ts'
import { useSeen } from '../app/seen.ts'
import { Exports } from '../parts/exports.tsx'
import { Moment } from '../parts/moment.tsx'
import { Failure, Page, Waiting } from '../parts/page.tsx'
import { TotalsBar, TotalsWords } from '../parts/states.tsx'
import { DeliveryTable } from './delivery-table.tsx'
import { Holds } from './holds.tsx'
import { ProgressChart } from './progress-chart.tsx'

export function NotificationPage() {
  const place = usePlace()
  const { id = '' } = useParams()
  useLiveNotification(place, id)
  const params = { id }
  const notification = useQuery(notificationQuery(place, id))
  const [search] = useSearchParams()
  const reason = search.get('reason')
  const deliveries = useQuery({
    // The live updates write to the list of all; a list of one reason is read anew.
    queryKey: reason ? [...keys.deliveries(place, id), reason] : keys.deliveries(place, id),
    queryFn: () => place.call('listDeliveries', { params, query: { limit: 200, ...(reason ? { reason } : {}) } }),
  })
  const progress = useQuery({
    queryKey: [...keys.notification(place, id), 'progress'],
    queryFn: () => place.call('readProgress', { params }),
    refetchInterval: (query) => (stillMoves(notification.data) || !query.state.data ? 2_000 : false),
  })
  useSeen('notification', notification.data && (notification.data.shows.title || 'Wakes the app'))
  if (notification.error) {
    return (
      <Page title="Notification" asks="What became of it?">
        <Failure error={notification.error} />
      </Page>
    )
  }
  if (!notification.data) {
    return (
      <Page title="Notification" asks="What became of it?">
        <Waiting />
      </Page>
    )
  }
  return (
    <Detail
      notification={notification.data}
      deliveries={deliveries.data?.items}
      more={Boolean(deliveries.data?.next)}
      progress={progress.data}
      reason={reason}
    />
  )
}

const stillMoves = (notification: Notification | undefined): boolean =>
  notification !== undefined && !['finished', 'cancelled'].includes(notification.state)

type DetailProps = {
  readonly notification: Notification
  readonly deliveries: readonly Delivery[] | undefined
  readonly more: boolean
  readonly progress: Progress | undefined
  readonly reason: string | null
}

function Detail({ notification, deliveries, more, progress, reason }: DetailProps) {
  const { shows, totals, reasons } = notification
  return (
    <Page
      title={shows.title || 'Wakes the app'}
      asks="What became of it, device by device?"
      crumbs={[{ to: '/activity', name: 'Activity' }]}
    >
      {shows.body && (
        <p className="max-w-2xl text-lg">
          <bdi>{shows.body}</bdi>
        </p>
      )}
      <p className="mt-2 text-sm text-soft">
        Sent <Moment at={notification.createdAt} /> by {notification.sentBy} to{' '}
        <span className="font-mono">{sayTarget(notification.to)}</span>, urgency {notification.urgency}
        {notification.channel && (
          <>
            , channel <span className="font-mono">{notification.channel}</span>
          </>
        )}
        . {stands(notification)}
      </p>
      <Holds notification={notification} />
      <section aria-labelledby="totals" className="mt-8">
        <h2 id="totals" className="mb-3">
          {totals.expanded.toLocaleString('en')} {totals.expanded === 1 ? 'device' : 'devices'}
        </h2>
        <TotalsBar totals={totals} tall />
        <div className="mt-4" aria-live="polite">
          <TotalsWords totals={totals} />
        </div>
        {progress && progress.steps.length > 2 && (
          <div className="mt-6">
            <ProgressChart progress={progress} startedAt={notification.createdAt} />
          </div>
        )}
      </section>
      {reasons.length > 0 && (
        <section aria-labelledby="reasons" className="mt-10 max-w-3xl">
          <h2 id="reasons">Why some were not rung</h2>
          <ul className="mt-2">
            {reasons.map(({ reason: code, count, detail, remedy }) => (
              <li key={code} className="border-t border-line py-2">
                <Link to={`?reason=${code}#devices`} className="font-semibold">
                  {count.toLocaleString('en')} ×
                </Link>{' '}
                {detail} <span className="text-soft">{remedy}</span>
              </li>
            ))}
          </ul>
        </section>
      )}
      <section aria-labelledby="devices" className="mt-10">
        <div className="flex flex-wrap items-baseline justify-between gap-x-6">
          <h2 id="devices">Each device</h2>
          <Exports what={`notifications/${notification.id}/deliveries`} filters={reason ? { reason } : {}} />
        </div>
        {reason && (
          <p className="text-sm text-soft">
            Only those with the reason {reason}. <Link to="?">Show all</Link>
          </p>
        )}
        {deliveries ? <DeliveryTable notification={notification.id} deliveries={deliveries} /> : <Waiting />}
        {more && (
          <p className="mt-3 text-sm text-soft">
            The first {deliveries?.length} devices. The HTTP interface and zbell list all of them.
          </p>
        )}
      </section>
    </Page>
  )
}

function stands({ state, expiresAt, dueAt, missedAt, quiet }: Notification): string {
  if (missedAt !== null)
    return 'Missed: the service was not running at its hour, and ringing it later would only have confused people.'
  if (state === 'scheduled' && dueAt !== null)
    return `Waits for its hour, ${new Date(dueAt).toLocaleString('en-GB', { dateStyle: 'medium', timeStyle: 'short' })}. Whom its target names is found then.`
  if (state === 'stopped') return 'The app is stopped: it waits until somebody starts it again.'
  if (state === 'paused') return 'Paused: what has not gone waits until it goes on.'
  if (state === 'cancelled') return 'Cancelled: what had not gone by then does not go.'
  if (state === 'finished') return 'Everything was handed over; receipts may still come.'
  const until = new Date(expiresAt).toLocaleString('en-GB', { dateStyle: 'medium', timeStyle: 'short' })
  if (quiet !== null)
    return `${quiet.devices.toLocaleString('en')} ${quiet.devices === 1 ? 'device waits' : 'devices wait'} for quiet hours to end, the first at ${new Date(quiet.until).toLocaleString('en-GB', { dateStyle: 'medium', timeStyle: 'short' })}.`
  return `${state === 'expanding' ? 'Looking for devices' : 'Being sent'}; it lives until ${until}.`
}
