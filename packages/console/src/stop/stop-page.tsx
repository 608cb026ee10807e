import { useMutation, useQueryClient } from '@tanstack/react-query'
import type { Stop } from '@zbell/contract'
import { stopMaking } from '@zbell/contract/forms'
import { useState } from 'react'
import { Link } from 'react-router'
import { keys } from '../app/live.ts'
import { usePlace } from '../app/place.ts'
import { Button } from '../parts/button.tsx'
import { Confirm } from '../parts/dialog.tsx'
import { Form, TextInput, useRequestForm } from '../parts/form.tsx'
import { Moment } from '../parts/moment.tsx'
import { Failure, Loaded, Page } from '../parts/page.tsx'
import { Checkbox } from '../parts/toggles.tsx'
import { useStop } from './use-stop.ts'

/** One switch that halts everything the app sends, and the decision what of it should still ring. */
export function StopPage() {
  const place = usePlace()
  const { data, error } = useStop()
  return (
    <Page title="Stop" asks="Should anything of this app ring at all?">
      <Loaded of={{ data, error }}>
        {(data) =>
          data.stopped ? <Stopped key={place.environment} stop={data} /> : <Running key={place.environment} />
        }
      </Loaded>
    </Page>
  )
}

function Running() {
  const place = usePlace()
  const client = useQueryClient()
  const filled = useRequestForm({
    schema: stopMaking,
    first: { reason: '' },
    requestOf: ({ reason }) => ({ reason: reason.trim() }),
  })
  return (
    <div className="max-w-xl">
      <p>
        It sends, in {place.environment}. A stop halts everything within a second, whatever sends it: people, schedules,
        the app’s server. What waits is not lost, and is decided about when it starts again.
      </p>
      <Form
        of={filled}
        submit="Stop everything"
        className="mt-6"
        onSubmit={async (body) => {
          const given = { body }
          client.setQueryData(keys.stop(place), await place.call('stopApp', given))
        }}
      >
        <TextInput
          of={filled}
          name="reason"
          label="Why"
          hint="Shown to everybody who looks"
          placeholder="Wrong times in the timetable"
        />
      </Form>
    </div>
  )
}

function Stopped({ stop: { stopped, waiting } }: { readonly stop: Stop }) {
  const place = usePlace()
  const client = useQueryClient()
  const [dropped, setDropped] = useState<readonly string[]>([])
  const ring = waiting.filter(({ notification }) => !dropped.includes(notification)).map((one) => one.notification)
  const start = useMutation({
    mutationFn: () =>
      place.call('startApp', {
        body: { ring: ring.length === waiting.length ? 'all' : ring.length === 0 ? 'none' : ring },
      }),
    onSuccess: async (state) => {
      client.setQueryData(keys.stop(place), state)
      await client.invalidateQueries({ queryKey: keys.notifications(place) })
    },
  })
  if (!stopped) return null
  const gone = waiting.length - ring.length
  return (
    <div className="grid max-w-3xl gap-8">
      <p className="text-xl">
        Stopped: <bdi>{stopped.reason}</bdi>
        <span className="block text-base text-soft">
          {stopped.stoppedBy}, <Moment at={stopped.stoppedAt} />
        </span>
      </p>
      <section aria-labelledby="waiting">
        <h2 id="waiting">What waits</h2>
        {waiting.length === 0 ? (
          <p className="text-soft">Nothing would ring by now.</p>
        ) : (
          <>
            <p className="text-soft">What is ticked rings when the app starts; the rest is cancelled.</p>
            <ul className="mt-3">
              {waiting.map(({ notification, title, name, sentBy, devices }) => (
                <li key={notification} className="flex items-baseline gap-4 border-t border-line py-2">
                  <Checkbox
                    checked={!dropped.includes(notification)}
                    onChange={(keep) =>
                      setDropped((all) => (keep ? all.filter((one) => one !== notification) : [...all, notification]))
                    }
                    hideLabel
                  >
                    Ring {title}
                  </Checkbox>
                  <span className="min-w-0 flex-1">
                    <Link to={`/activity/${notification}`} className="font-semibold">
                      <bdi>{title || 'Wakes the app'}</bdi>
                    </Link>
                    <span className="block text-sm text-soft">
                      {name === null ? '' : `${name}, `}
                      {sentBy}
                    </span>
                  </span>
                  <span className="text-sm text-soft">{devices.toLocaleString('en')} devices so far</span>
                </li>
              ))}
            </ul>
          </>
        )}
      </section>
      {start.error && <Failure error={start.error} />}
      <div>
        <Confirm
          title="Start the app again?"
          yes="Start it"
          onYes={() => start.mutate()}
          trigger={
            <Button rank="primary" busy={start.isPending}>
              Start again
            </Button>
          }
        >
          {waiting.length === 0
            ? 'Nothing waits; what is due later rings at its time.'
            : `${ring.length} of ${waiting.length} that wait ${ring.length === 1 ? 'rings' : 'ring'} at once${gone === 0 ? '' : `, and ${gone} ${gone === 1 ? 'is' : 'are'} cancelled`}.`}
        </Confirm>
      </div>
    </div>
  )
}
