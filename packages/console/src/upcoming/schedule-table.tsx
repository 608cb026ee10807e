import { useQuery } from '@tanstack/react-query'
import type { Schedule } from '@zbell/contract'
import { sayWhen } from '@zbell/contract/words'
import { Link } from 'react-router'
import { keys } from '../app/live.ts'
import { usePlace } from '../app/place.ts'
import { type Column, DataTable } from '../parts/data-table.tsx'
import { ownZone } from '../parts/moment.tsx'
import { Empty, Failure, Waiting } from '../parts/page.tsx'
import { exactIn } from './when-field.tsx'

const columns: readonly Column<Schedule>[] = [
  {
    name: 'schedule',
    title: 'Schedule',
    always: true,
    width: 220,
    cell: ({ name, shows }) => (
      <>
        <Link to={`/upcoming/${name}`} className="font-mono text-sm break-all">
          {name}
        </Link>
        <span className="block text-sm text-soft">
          <bdi>{shows.title || 'Wakes the app'}</bdi>
        </span>
      </>
    ),
  },
  {
    name: 'rings',
    title: 'Rings',
    always: true,
    cell: ({ when }) => <span className="break-words">{sayWhen(when)}</span>,
  },
  {
    name: 'next',
    title: 'Next',
    always: true,
    width: 220,
    cell: ({ paused, nextAt }) => (paused ? 'paused' : nextAt === null ? 'over' : exactIn(nextAt, ownZone)),
  },
]

/** All schedules of the environment. */
export function ScheduleTable() {
  const place = usePlace()
  const { data, error } = useQuery({
    queryKey: [...keys.schedules(place), 'all'],
    queryFn: () => place.all('listSchedules'),
  })
  if (error) return <Failure error={error} />
  if (!data) return <Waiting />
  if (data.length === 0)
    return (
      <Empty
        what="A schedule rings a notification at its times, again and again, until it is cancelled by its name."
        example="FREQ=WEEKLY;BYDAY=MO,TU"
      />
    )
  return (
    <DataTable
      label="Schedules"
      name="schedules"
      rows={data}
      idOf={({ name }) => name}
      columns={columns}
      none="There is no schedule."
    />
  )
}
