import { useMutation, useQueryClient } from '@tanstack/react-query'
import type { Notification } from '@zbell/contract'
import { useState } from 'react'
import { Link, useNavigate } from 'react-router'
import { api } from '../app/api.ts'
import { keys } from '../app/live.ts'
import { usePlace } from '../app/place.ts'
import { AskOnce } from '../parts/ask-once.tsx'
import { Failure, secondary } from '../parts/page.tsx'

type Wish = 'paused' | 'none' | 'cancelled' | 'withdraw'

/** What cannot be undone says what will happen, and asks once. */
const asks: Partial<Record<Wish, (notification: Notification) => string>> = {
  cancelled: ({ totals }) =>
    `Nothing more goes out. ${gone(totals).toLocaleString('en')} of ${totals.expanded.toLocaleString('en')} devices have it already and keep it.`,
  withdraw: ({ totals }) =>
    `${gone(totals).toLocaleString('en')} ${gone(totals) === 1 ? 'device is' : 'devices are'} woken to remove it, and what has not gone does not go. Who has read it has read it.`,
}

const gone = ({ accepted, received, shown, opened, dismissed }: Notification['totals']): number =>
  accepted + received + shown + opened + dismissed

/** Stopping, going on, taking back, and sending one like it. */
export function Holds({ notification }: { readonly notification: Notification }) {
  const place = usePlace()
  const client = useQueryClient()
  const go = useNavigate()
  const [asking, setAsking] = useState<Wish>()
  const given = { params: { app: place.app.slug, id: notification.id }, query: { environment: place.environment } }
  const act = useMutation({
    mutationFn: async (wish: Wish) => {
      if (wish === 'withdraw') return go(`/activity/${(await api.call('withdrawNotification', given)).id}`)
      const fresh = await api.call('holdNotification', { ...given, body: { hold: wish } })
      client.setQueryData(keys.notification(place, notification.id), fresh)
    },
    onSettled: () => setAsking(undefined),
  })
  const live = !['finished', 'cancelled'].includes(notification.state)
  const wishes: [Wish, string, boolean][] = [
    ['paused', 'Pause', live && notification.state !== 'paused'],
    ['none', 'Go on', notification.state === 'paused'],
    ['cancelled', 'Cancel', live],
    ['withdraw', 'Take it back', gone(notification.totals) > 0 && notification.withdrawnAt === null],
  ]
  const say = asking && asks[asking]
  return (
    <div className="mt-6">
      <div className="flex flex-wrap gap-3">
        {wishes
          .filter(([, , possible]) => possible)
          .map(([wish, word]) => (
            <button
              key={wish}
              type="button"
              className={secondary}
              disabled={act.isPending}
              onClick={() => (asks[wish] ? setAsking(wish) : act.mutate(wish))}
            >
              {word}
            </button>
          ))}
        <Link to={`/write?like=${notification.id}`} className={secondary}>
          Write one like it
        </Link>
      </div>
      {asking && say && (
        <AskOnce
          yes={asking === 'cancelled' ? 'Cancel it for good' : 'Take it back now'}
          onYes={() => act.mutate(asking)}
          onLeave={() => setAsking(undefined)}
        >
          {say(notification)}
        </AskOnce>
      )}
      {act.error && <Failure error={act.error} />}
    </div>
  )
}
