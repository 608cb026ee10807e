import type { Delivery } from '@zbell/contract'
import { deliveryLooks, span } from '@zbell/contract/words'
import { useMemo } from 'react'
import { Link } from 'react-router'
import { type Column, DataTable } from '../parts/data-table.tsx'
import { StateWord } from '../parts/states.tsx'

type Props = { readonly notification: string; readonly deliveries: readonly Delivery[] }

/** Each device of a notification, where its delivery stands, and how it came there. */
export function DeliveryTable({ notification, deliveries }: Props) {
  const columns = useMemo(() => columnsOf(notification), [notification])
  if (deliveries.length === 0) return <p className="mt-2 text-soft">No device belongs to this target.</p>
  return (
    <DataTable label="Each device" name="deliveries" rows={deliveries} idOf={(one) => one.device} columns={columns} />
  )
}

const columnsOf = (notification: string): readonly Column<Delivery>[] => [
  {
    name: 'user',
    title: 'Person',
    always: true,
    cell: ({ user }) =>
      user === null ? (
        <span className="text-soft">anonymous</span>
      ) : (
        <Link to={`/people/${encodeURIComponent(user)}`}>
          <bdi>{user}</bdi>
        </Link>
      ),
  },
  {
    name: 'device',
    title: 'Device',
    always: true,
    cell: (one) => (
      <>
        <Link to={`/devices/${one.device}`}>{one.platform}</Link>
        <span className="block font-mono text-xs text-soft">…{one.device.slice(-8)}</span>
        {one.rehearsal && <span className="block text-sm text-amber">◑ rehearsal</span>}
      </>
    ),
  },
  {
    name: 'state',
    title: 'State',
    always: true,
    cell: (one) => (
      <>
        <StateWord state={one.state} />{' '}
        <Link to={`/activity/${notification}/why/${one.device}`} className="text-sm">
          why
        </Link>
        {one.reason && <span className="block max-w-64 text-sm text-soft">{one.reason.detail}</span>}
        {one.cap && <span className="block font-mono text-xs text-soft">{one.cap}</span>}
        {one.waits && (
          <span className="block max-w-64 text-sm text-soft">
            {one.waits.reason === 'quiet-hours' ? 'Waits for quiet hours to end' : 'Waits for another try'},{' '}
            {timeOf(one.waits.until)}
          </span>
        )}
      </>
    ),
  },
  {
    name: 'progress',
    title: 'Progress',
    wide: true,
    always: true,
    width: 480,
    cell: (one) => <Timeline timeline={one.timeline} />,
  },
]

const timeOf = (at: string): string => new Date(at).toLocaleString('en-GB', { timeStyle: 'long' })

/** The steps of one delivery, each with the time since the step before. */
function Timeline({ timeline }: { readonly timeline: Delivery['timeline'] }) {
  return (
    <ol className="flex flex-wrap items-baseline gap-y-1 text-sm">
      {timeline.map(({ state, at, notedAt }, i) => {
        const before = timeline[i - 1]
        return (
          <li key={state} className="flex items-baseline whitespace-nowrap">
            {before && (
              <span className="px-2 text-xs text-soft">
                <span aria-hidden="true">─ </span>
                {at > before.at && span(Date.parse(at) - Date.parse(before.at))}
                <span aria-hidden="true"> →</span>
              </span>
            )}
            <span title={`${timeOf(at)}${notedAt === null ? '' : `; noted at ${timeOf(notedAt)}, by another clock`}`}>
              <span aria-hidden="true">{deliveryLooks[state].shape} </span>
              {state}
            </span>
          </li>
        )
      })}
    </ol>
  )
}
