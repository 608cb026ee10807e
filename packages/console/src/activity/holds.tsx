import { useMutation, useQueryClient } from '@tanstack/react-query'
import type { Notification } from '@zbell/contract'
import { CircleStop, Copy, type LucideIcon, Pause, Play, Undo2 } from 'lucide-react'
import { useNavigate } from 'react-router'
import { keys } from '../app/live.ts'
import { usePlace } from '../app/place.ts'
import { ActionLink, Button } from '../parts/button.tsx'
import { Confirm } from '../parts/dialog.tsx'
import { Failure } from '../parts/page.tsx'

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
  const given = { params: { id: notification.id } }
  const act = useMutation({
    mutationFn: async (wish: Wish) => {
      if (wish === 'withdraw') return go(`/activity/${(await place.call('withdrawNotification', given)).id}`)
      const fresh = await place.call('holdNotification', { ...given, body: { hold: wish } })
      client.setQueryData(keys.notification(place, notification.id), fresh)
    },
  })
  const live = !['finished', 'cancelled'].includes(notification.state)
  const wishes: readonly (readonly [wish: Wish, word: string, possible: boolean, icon: LucideIcon])[] = [
    ['paused', 'Pause', live && notification.state !== 'paused', Pause],
    ['none', 'Go on', notification.state === 'paused', Play],
    ['cancelled', 'Cancel', live, CircleStop],
    ['withdraw', 'Withdraw', gone(notification.totals) > 0 && notification.withdrawnAt === null, Undo2],
  ]
  return (
    <div className="mt-6">
      <div className="flex flex-wrap gap-3">
        {wishes
          .filter(([, , possible]) => possible)
          .map(([wish, word, , icon]) => {
            const say = asks[wish]
            return say ? (
              <Confirm
                key={wish}
                title={wish === 'cancelled' ? 'Cancel it?' : 'Withdraw it?'}
                yes={wish === 'cancelled' ? 'Cancel it for good' : 'Withdraw it now'}
                onYes={() => act.mutate(wish)}
                trigger={
                  <Button icon={icon} busy={act.isPending}>
                    {word}
                  </Button>
                }
              >
                {say(notification)}
              </Confirm>
            ) : (
              <Button key={wish} icon={icon} busy={act.isPending} onClick={() => act.mutate(wish)}>
                {word}
              </Button>
            )
          })}
        <ActionLink to={`/write?like=${notification.id}`} icon={Copy}>
          Write one like it
        </ActionLink>
      </div>
      {act.error && <Failure error={act.error} />}
    </div>
  )
}
