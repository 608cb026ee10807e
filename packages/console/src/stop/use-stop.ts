import { useQuery } from '@tanstack/react-query'
import { api } from '../app/api.ts'
import { keys } from '../app/live.ts'
import { usePlace } from '../app/place.ts'

/** Whether the app is stopped, and what waits for it to be started. */
export function useStop() {
  const place = usePlace()
  return useQuery({
    queryKey: keys.stop(place),
    queryFn: () => api.call('readStop', { params: { app: place.app.slug }, query: { environment: place.environment } }),
    refetchInterval: 5_000,
  })
}
