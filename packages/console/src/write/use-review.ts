import type { Review, When } from '@zbell/contract'
import { useEffect, useState } from 'react'
import type { Place } from '../app/place.ts'
import { type Draft, requestOf } from './draft.ts'

const restMs = 350

export type Reviewed = {
  readonly review: Review | undefined
  readonly error: unknown
  /** The review is of what stands in the fields now. */
  readonly isCurrent: boolean
}

/** What would happen, asked anew whenever the writer rests; the last answer stays until the next one is there. */
export function useReview(
  place: Place,
  draft: Draft,
  reader: { readonly user: string; readonly language: string },
  when: When | undefined,
): Reviewed {
  const [state, setState] = useState<{ of: string; review: Review | undefined; error: unknown }>({
    of: '',
    review: undefined,
    error: undefined,
  })
  const asked = JSON.stringify([requestOf(draft), reader, when])
  // biome-ignore lint/correctness/useExhaustiveDependencies: `asked` holds all of the draft, the reader and the time
  useEffect(() => {
    const stop = new AbortController()
    const timer = setTimeout(() => {
      const query = {
        ...(reader.user ? { user: reader.user } : {}),
        ...(reader.language ? { language: reader.language } : {}),
      }
      // A recurrence is reviewed as of its first time; its name is of no matter here.
      const body = { ...requestOf(draft), ...(when ? { when, name: 'as-it-stands' } : {}) }
      const given = { query, body, signal: stop.signal }
      place.call('reviewNotification', given).then(
        (review) => setState({ of: asked, review, error: undefined }),
        (error: unknown) => stop.signal.aborted || setState((last) => ({ of: asked, review: last.review, error })),
      )
    }, restMs)
    return () => {
      clearTimeout(timer)
      stop.abort()
    }
  }, [asked, place])
  return { review: state.review, error: state.error, isCurrent: state.of === asked }
}
