import { useQuery } from '@tanstack/react-query'
import { useMemo } from 'react'
import { keys } from '../app/live.ts'
import { usePlace } from '../app/place.ts'
import { namesIn } from '../values/names-in.ts'
import type { Draft } from './draft.ts'

/** What a draft’s texts name, with what was given a value beside it; and what they could name. */
export function useNames({ texts, values, fallbacks }: Draft) {
  const place = usePlace()
  const attributes = useQuery({
    queryKey: [...keys.people(place), 'attributes'],
    queryFn: () => place.call('listAttributes'),
  })
  const named = useMemo(() => {
    const wanted = namesIn(Object.values(texts).flatMap(({ title, subtitle, body }) => [title, subtitle, body]))
    const more = [...new Set([...Object.keys(values), ...Object.keys(fallbacks)])]
      .filter((name) => !wanted.some((one) => one.name === name))
      .map((name) => ({ name, type: typeof values[name] === 'number' ? ('number' as const) : ('text' as const) }))
    return [...wanted, ...more]
  }, [texts, values, fallbacks])
  const known = useMemo(
    () => [
      ...(attributes.data?.items ?? []).map(({ name, type }) => ({ name, note: `${type}, each reader’s own` })),
      ...Object.keys(values).map((name) => ({ name, note: 'a value given below' })),
    ],
    [attributes.data, values],
  )
  return { named, known }
}
