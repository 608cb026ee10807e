const exact = new Intl.DateTimeFormat('en-GB', { dateStyle: 'medium', timeStyle: 'long' })
const clock = new Intl.DateTimeFormat('en-GB', { hour: '2-digit', minute: '2-digit', second: '2-digit' })
const day = new Intl.DateTimeFormat('en-GB', { day: 'numeric', month: 'short' })

/** A moment: the clock today, the day before that; the exact time with its zone on hover. */
export function Moment({ at }: { readonly at: string }) {
  const date = new Date(at)
  const today = date.toDateString() === new Date().toDateString()
  return (
    <time dateTime={at} title={exact.format(date)} className="whitespace-nowrap">
      {today ? clock.format(date) : `${day.format(date)}, ${clock.format(date)}`}
    </time>
  )
}
