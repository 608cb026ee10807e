import { useQuery } from '@tanstack/react-query'
import { api } from '../app/api.ts'
import { keys } from '../app/live.ts'
import { usePlace } from '../app/place.ts'

/** The app’s channels in this environment, by name. */
export function useChannels() {
  const place = usePlace()
  return useQuery({
    queryKey: keys.channels(place),
    queryFn: () =>
      api.all('listChannels', { params: { app: place.app.slug }, query: { environment: place.environment } }),
  })
}
