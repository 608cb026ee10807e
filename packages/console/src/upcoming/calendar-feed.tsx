import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { CalendarPlus } from 'lucide-react'
import { useState } from 'react'
import { keys } from '../app/live.ts'
import { usePlace } from '../app/place.ts'
import { useIsOwner } from '../app/session.ts'
import { Button } from '../parts/button.tsx'
import { Dialog } from '../parts/dialog.tsx'
import { Moment } from '../parts/moment.tsx'
import { Failure } from '../parts/page.tsx'
import { ShownOnce } from '../parts/shown-once.tsx'

/** What is upcoming in somebody’s own calendar, behind a secret address that an owner makes and revokes. */
export function CalendarFeed() {
  const place = usePlace()
  const isOwner = useIsOwner()
  const client = useQueryClient()
  const [open, setOpen] = useState(false)
  const key = [...keys.schedules(place), 'feed']
  const feed = useQuery({ queryKey: key, queryFn: () => place.call('readFeed'), enabled: open })
  const again = () => client.invalidateQueries({ queryKey: key })
  const make = useMutation({ mutationFn: () => place.call('makeFeed'), onSuccess: again })
  const revoke = useMutation({
    mutationFn: () => place.call('revokeFeed'),
    onSuccess: () => {
      make.reset()
      return again()
    },
  })
  const isThere = feed.data !== undefined && feed.data.madeAt !== null
  const failure = feed.error ?? make.error ?? revoke.error
  return (
    <>
      <Button rank="quiet" icon={CalendarPlus} onClick={() => setOpen(true)}>
        In your calendar
      </Button>
      <Dialog
        title="Upcoming in your calendar"
        about="A calendar subscribes to a secret address: whoever has it reads what is upcoming here, and nothing else."
        open={open}
        onOpenChange={setOpen}
      >
        <div className="grid gap-4">
          {feed.data && (
            <p>
              {feed.data.madeAt === null ? (
                'There is no address yet.'
              ) : (
                <>
                  {feed.data.madeBy} made it <Moment at={feed.data.madeAt} />. It was shown that once.
                </>
              )}
            </p>
          )}
          {make.data && <ShownOnce secret={make.data.url} for="Your calendar subscribes to it." />}
          {failure && <Failure error={failure} />}
          {isOwner ? (
            <div className="flex flex-wrap gap-3">
              <Button busy={make.isPending} onClick={() => make.mutate()}>
                {isThere ? 'Make another; this one ends' : 'Make an address'}
              </Button>
              {isThere && (
                <Button rank="quiet" busy={revoke.isPending} onClick={() => revoke.mutate()}>
                  Revoke it
                </Button>
              )}
            </div>
          ) : (
            <p className="text-soft">An owner of this console makes and revokes it.</p>
          )}
        </div>
      </Dialog>
    </>
  )
}
