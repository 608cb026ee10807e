import { useQuery } from '@tanstack/react-query'
import { api } from './api.ts'
import { keys } from './live.ts'
import { usePlace } from './place.ts'

/** What the app asks in this environment. */
export function useSettings() {
  const place = usePlace()
  return useQuery({
    queryKey: keys.settings(place),
    queryFn: () =>
      api.call('readSettings', { params: { app: place.app.slug }, query: { environment: place.environment } }),
  })
}
