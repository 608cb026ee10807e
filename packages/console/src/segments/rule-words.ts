import { useQuery } from '@tanstack/react-query'
import type { RuleWords } from '@zbell/contract'
import { keys } from '../app/live.ts'
import { usePlace } from '../app/place.ts'

/** What a rule can be about here. */
export function useRuleWords(): RuleWords | undefined {
  const place = usePlace()
  const { data } = useQuery({
    queryKey: [...keys.segments(place), 'words'],
    queryFn: () => place.call('readRuleWords'),
    // It is looked up anew when the page is opened, not after each word.
    staleTime: 60_000,
  })
  return data
}
