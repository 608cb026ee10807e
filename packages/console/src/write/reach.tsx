import type { Review } from '@zbell/contract'
import { ownZone } from '../parts/moment.tsx'
import { exactIn } from '../upcoming/when-field.tsx'

const many = (count: number, one: string, more: string) => `${count.toLocaleString('en')} ${count === 1 ? one : more}`

export const devicesIn = ({ devices }: Review): number => devices.ios + devices.android + devices.web

/** What is worth a look, by the field that it is about. */
export function warningsOf(review: Review | undefined): { readonly [field: string]: readonly string[] } {
  const all: Record<string, string[]> = {}
  for (const { platform, field, says } of review?.warnings ?? []) {
    all[field] ??= []
    all[field].push(`${platform}: ${says}`)
  }
  return all
}

/** Who would get it, in one line, while it is being written. @param named somebody is meant already */
export function Reach({ review, named }: { readonly review: Review | undefined; readonly named: boolean }) {
  if (!review)
    return (
      <p className="text-sm text-soft">
        {named
          ? 'They are counted once the words are there and nothing is wrong.'
          : 'Say who is meant, and this line counts them.'}
      </p>
    )
  const waits = review.quiet.reduce((sum, { devices }) => sum + devices, 0)
  const out = review.leftOut.reduce((sum, { count }) => sum + count, 0)
  return (
    <p className="text-sm text-soft" aria-live="polite">
      Would ring {review.estimated && 'about '}
      <strong className="text-ink">{many(devicesIn(review), 'device', 'devices')}</strong> of{' '}
      {many(review.people, 'person', 'people')}
      {waits > 0 && `; ${waits.toLocaleString('en')} of them wait for quiet hours to end`}
      {out > 0 && `; ${out.toLocaleString('en')} left out`}.
    </p>
  )
}

/** So many ends of quiet hours are told, one for each of many zones. */
const quietShown = 6

/** Everything to know before it goes. */
export function ReviewSummary({ review }: { readonly review: Review }) {
  const { devices, people, estimated, leftOut, quiet, caps, warnings, faults, seconds } = review
  return (
    <div className="grid max-w-2xl gap-5">
      <div>
        <p className="text-2xl leading-tight font-semibold">
          {estimated && 'About '}
          {many(devicesIn(review), 'device', 'devices')}
        </p>
        <p className="text-soft">
          of {many(people, 'person', 'people')}:{' '}
          {(['ios', 'android', 'web'] as const).map((one) => `${one} ${devices[one].toLocaleString('en')}`).join(', ')}
          {seconds !== null &&
            seconds > 0 &&
            `; takes about ${seconds < 90 ? `${Math.ceil(seconds)} s` : `${Math.ceil(seconds / 60)} min`}`}
        </p>
      </div>
      {quiet.length > 0 && (
        <section aria-labelledby="quiet">
          <h3 id="quiet" className="font-semibold">
            Wait for quiet hours to end
          </h3>
          <ul>
            {quiet.slice(0, quietShown).map(({ until, devices: waiting }) => (
              <li key={until}>
                <span className="font-semibold">{many(waiting, 'device', 'devices')}</span> until{' '}
                {exactIn(until, ownZone)}
              </li>
            ))}
            {quiet.length > quietShown && <li className="text-soft">and {quiet.length - quietShown} later ends</li>}
          </ul>
        </section>
      )}
      {leftOut.length > 0 && (
        <section aria-labelledby="left-out">
          <h3 id="left-out" className="font-semibold">
            Left out
          </h3>
          <ul>
            {leftOut.map(({ reason, count, detail }) => (
              <li key={reason}>
                <span className="font-semibold">{count.toLocaleString('en')} × </span>
                {detail}
              </li>
            ))}
            {caps.map(({ cap, people: full }) => (
              <li key={cap} className="text-soft">
                The cap <span className="font-mono text-sm">{cap}</span> leaves out {many(full, 'person', 'people')}.
              </li>
            ))}
          </ul>
        </section>
      )}
      {warnings.length > 0 && (
        <section aria-labelledby="warnings">
          <h3 id="warnings" className="font-semibold">
            Worth a look
          </h3>
          <ul>
            {warnings.map(({ platform, field, says }) => (
              <li key={`${platform} ${field} ${says}`}>
                <span className="text-amber">△ </span>
                {platform}, {field}: {says}
              </li>
            ))}
          </ul>
        </section>
      )}
      {faults.length > 0 && (
        <section aria-labelledby="faults">
          <h3 id="faults" className="font-semibold">
            To be fixed first
          </h3>
          <ul>
            {faults.map(({ field, says }) => (
              <li key={`${field} ${says}`}>
                <span className="text-red">✕ </span>
                {field}: {says}
              </li>
            ))}
          </ul>
        </section>
      )}
    </div>
  )
}
