import { useMutation, useQueryClient } from '@tanstack/react-query'
import type { AppSettings } from '@zbell/contract'
import { keys } from '../app/live.ts'
import { usePlace } from '../app/place.ts'

/** Replaces the quiet hours or the caps of the app. */
export function usePolicy() {
  const place = usePlace()
  const client = useQueryClient()
  return useMutation({
    mutationFn: (body: Partial<Pick<AppSettings, 'quietHours' | 'caps'>>) => place.call('changeSettings', { body }),
    onSuccess: (settings) => client.setQueryData(keys.settings(place), settings),
  })
}
