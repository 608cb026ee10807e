import type { Topic } from '@zbell/contract'
import { keys } from './live.ts'
import type { Place } from './place.ts'
import { queries } from './queries.ts'

/** All topics of an app, read once for whoever searches among them; a change of devices or people has them read anew. */
const allTopics = (place: Place): Promise<Topic[]> =>
  queries.fetchQuery({
    queryKey: keys.topics(place),
    queryFn: () => place.all('listTopics'),
    staleTime: 60_000,
  })

/** Those whose name or title has this in it, in the order of their names. @param most so many at the most */
export async function findTopics(place: Place, typed: string, most: number): Promise<readonly Topic[]> {
  const wanted = typed.toLowerCase()
  const all = await allTopics(place)
  return all.filter(({ topic, title }) => `${topic} ${title ?? ''}`.toLowerCase().includes(wanted)).slice(0, most)
}
