import { useQuery } from '@tanstack/react-query'
import { keys } from '../app/live.ts'
import { usePlace } from '../app/place.ts'

/** The app’s channels in this environment, by name. */
export function useChannels() {
  const place = usePlace()
  return useQuery({
    queryKey: keys.channels(place),
    queryFn: () => place.all('listChannels'),
  })
}
