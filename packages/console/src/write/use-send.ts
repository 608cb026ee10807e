import { useMutation, useQueryClient } from '@tanstack/react-query'
import { keys } from '../app/live.ts'
import { usePlace } from '../app/place.ts'
import { readReferences } from '../target/references.ts'
import { timingIn } from '../upcoming/when-field.tsx'
import { type Draft, planRequestOf, requestOf } from './draft.ts'
import type { Hour } from './when-section.tsx'

/**
 * Sends a draft: to all whom it means, at its hour; or at once to some, to try it on them.
 * @param onSent hears where what was sent can be watched; nothing of a trial
 */
export function useSend(draft: Draft, { timing, ringer, name }: Hour, onSent: (watchedAt: string) => unknown) {
  const place = usePlace()
  const client = useQueryClient()
  const own = name.trim()
  const bodyFor = (to: string | undefined) => {
    const request = requestOf(draft)
    if (to !== undefined) return { ...request, to: { any: readReferences(to) }, spreadSeconds: 0 }
    const when = timingIn(timing)
    if (typeof when !== 'object') return request
    return ringer === 'the devices'
      ? planRequestOf(draft, own, when)
      : { ...request, when, ...(own === '' ? {} : { name: own }) }
  }
  return useMutation({
    mutationFn: (to?: string) => place.call('sendNotification', { body: bodyFor(to) }),
    onSuccess: ({ id, dueAt }, to) => {
      if (to !== undefined) return
      void client.invalidateQueries({ queryKey: keys.schedules(place) })
      return onSent(dueAt !== null && timing.repeat.trim() !== '' ? `/upcoming/${own}` : `/activity/${id}`)
    },
  })
}
