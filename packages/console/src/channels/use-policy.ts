import { useMutation, useQueryClient } from '@tanstack/react-query'
import type { AppSettings } from '@zbell/contract'
import { api } from '../app/api.ts'
import { keys } from '../app/live.ts'
import { usePlace } from '../app/place.ts'

/** Replaces the quiet hours or the caps of the app. */
export function usePolicy() {
  const place = usePlace()
  const client = useQueryClient()
  return useMutation({
    mutationFn: (body: Partial<Pick<AppSettings, 'quietHours' | 'caps'>>) =>
      api.call('changeSettings', {
        params: { app: place.app.slug },
        query: { environment: place.environment },
        body,
      }),
    onSuccess: (settings) => client.setQueryData(keys.settings(place), settings),
  })
}
