import { useQuery } from '@tanstack/react-query'
import type { Delivery, Notification } from '@zbell/contract'
import { Link, useParams } from 'react-router'
import { api } from '../app/api.ts'
import { keys, useLiveNotification } from '../app/live.ts'
import { usePlace } from '../app/place.ts'
import { Moment } from '../parts/moment.tsx'
import { Failure, Page, secondary, Waiting } from '../parts/page.tsx'
import { TotalsBar, TotalsWords } from '../parts/states.tsx'
import { DeliveryTable } from './delivery-table.tsx'

export function NotificationPage() {
  const place = usePlace()
  const { id = '' } = useParams()
  useLiveNotification(place, id)
  const params = { app: place.app.slug, id }
  const { environment } = place
  const notification = useQuery({
    queryKey: keys.notification(place, id),
    queryFn: () => api.call('readNotification', { params, query: { environment } }),
  })
  const deliveries = useQuery({
    queryKey: keys.deliveries(place, id),
    queryFn: () => api.call('listDeliveries', { params, query: { environment, limit: 200 } }),
  })
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
    />
  )
}

type DetailProps = {
  readonly notification: Notification
  readonly deliveries: readonly Delivery[] | undefined
  readonly more: boolean
}

function Detail({ notification, deliveries, more }: DetailProps) {
  const { content, totals, reasons } = notification
  return (
    <Page
      title={content.title || 'Wakes the app'}
      asks="What became of it, device by device?"
      action={
        <Link to="/activity" className={secondary}>
          All activity
        </Link>
      }
    >
      {content.body && (
        <p className="max-w-2xl text-lg">
          <bdi>{content.body}</bdi>
        </p>
      )}
      <p className="mt-2 text-sm text-soft">
        Sent <Moment at={notification.createdAt} /> by {notification.sentBy} to{' '}
        <span className="font-mono">{notification.to.any.join(' ')}</span>, urgency {notification.urgency}.{' '}
        {stands(notification)}
      </p>
      <section aria-labelledby="totals" className="mt-8">
        <h2 id="totals" className="mb-3">
          {totals.expanded.toLocaleString('en')} {totals.expanded === 1 ? 'device' : 'devices'}
        </h2>
        <TotalsBar totals={totals} tall />
        <div className="mt-4" aria-live="polite">
          <TotalsWords totals={totals} />
        </div>
      </section>
      {reasons.length > 0 && (
        <section aria-labelledby="reasons" className="mt-10 max-w-3xl">
          <h2 id="reasons">Why some were not rung</h2>
          <ul className="mt-2">
            {reasons.map(({ reason, count, says, does }) => (
              <li key={reason} className="border-t border-line py-2">
                <span className="font-semibold">{count.toLocaleString('en')} × </span>
                {says} <span className="text-soft">{does}</span>
              </li>
            ))}
          </ul>
        </section>
      )}
      <section aria-labelledby="devices" className="mt-10">
        <h2 id="devices">Each device</h2>
        {deliveries ? <DeliveryTable deliveries={deliveries} /> : <Waiting />}
        {more && (
          <p className="mt-3 text-sm text-soft">
            The first {deliveries?.length} devices. The HTTP interface and zbell list all of them.
          </p>
        )}
      </section>
    </Page>
  )
}

function stands({ state, expiresAt }: Notification): string {
  if (state === 'finished') return 'Everything was handed over; receipts may still come.'
  const until = new Date(expiresAt).toLocaleString('en-GB', { dateStyle: 'medium', timeStyle: 'short' })
  return `${state === 'expanding' ? 'Looking for devices' : 'Being sent'}; it lives until ${until}.`
}
