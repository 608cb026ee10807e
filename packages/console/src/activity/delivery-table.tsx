import type { Delivery } from '@zbell/contract'
import { deliveryLooks, span } from '@zbell/contract/words'
import { Link } from 'react-router'
import { StateWord } from '../parts/states.tsx'

type Props = { readonly notification: string; readonly deliveries: readonly Delivery[] }

export function DeliveryTable({ notification, deliveries }: Props) {
  if (deliveries.length === 0) return <p className="mt-2 text-soft">No device belongs to this target.</p>
  return (
    <table className="mt-2 w-full">
      <thead>
        <tr>
          <th scope="col">Person</th>
          <th scope="col">Device</th>
          <th scope="col">State</th>
          <th scope="col" className="w-1/2 pe-0 max-md:hidden">
            Progress
          </th>
        </tr>
      </thead>
      <tbody>
        {deliveries.map((one) => (
          <tr key={one.device}>
            <td>{one.user ?? <span className="text-soft">anonymous</span>}</td>
            <td>
              <Link to={`/devices/${one.device}`}>{one.platform}</Link>
              <span className="block font-mono text-xs text-soft">…{one.device.slice(-8)}</span>
              {one.rehearsal && <span className="block text-sm text-amber">◑ rehearsal</span>}
            </td>
            <td>
              <StateWord state={one.state} />{' '}
              <Link to={`/activity/${notification}/why/${one.device}`} className="text-sm">
                why
              </Link>
              {one.reason && <span className="block max-w-64 text-sm text-soft">{one.reason.says}</span>}
            </td>
            <td className="pe-0 max-md:hidden">
              <Timeline timeline={one.timeline} />
            </td>
          </tr>
        ))}
      </tbody>
    </table>
  )
}

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
