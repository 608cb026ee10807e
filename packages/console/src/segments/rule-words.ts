import { useQuery } from '@tanstack/react-query'
import type { RuleWords } from '@zbell/contract'
import { api } from '../app/api.ts'
import { keys } from '../app/live.ts'
import { usePlace } from '../app/place.ts'

/** What a rule can be about here. */
export function useRuleWords(): RuleWords | undefined {
  const place = usePlace()
  const { data } = useQuery({
    queryKey: [...keys.segments(place), 'words'],
    queryFn: () =>
      api.call('readRuleWords', { params: { app: place.app.slug }, query: { environment: place.environment } }),
    // It is looked up anew when the page is opened, not after each word.
    staleTime: 60_000,
  })
  return data
}
