import { useQuery } from '@tanstack/react-query'
import { keys } from '../app/live.ts'
import { usePlace } from '../app/place.ts'

/** Whether the app is stopped, and what waits for it to be started. */
export function useStop() {
  const place = usePlace()
  return useQuery({
    queryKey: keys.stop(place),
    queryFn: () => place.call('readStop'),
    refetchInterval: 5_000,
  })
}
