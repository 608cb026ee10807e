import { useQuery } from '@tanstack/react-query'
import { keys } from './live.ts'
import { usePlace } from './place.ts'

/** What the app asks in this environment. */
export function useSettings() {
  const place = usePlace()
  return useQuery({
    queryKey: keys.settings(place),
    queryFn: () => place.call('readSettings'),
  })
}
