import { useMutation, useQueryClient } from '@tanstack/react-query'
import type { Source } from '@zbell/contract'
import { ProblemError } from '@zbell/contract/client'
import { useState } from 'react'
import { keys } from '../app/live.ts'
import { usePlace } from '../app/place.ts'
import { Button } from '../parts/button.tsx'
import { Failure } from '../parts/page.tsx'

type Written = { readonly name: string; readonly body: Record<string, unknown> }

/** Saves a source; one that cannot be read as it was said is saved only when whoever wrote it wants that all the same. */
export function useSaveSource() {
  const place = usePlace()
  const client = useQueryClient()
  const [unreadable, setUnreadable] = useState<Written>()
  const send = async ({ name, body }: Written, anyway: boolean): Promise<Source> => {
    const saved = await place.call('saveSource', {
      params: { source: name },
      query: anyway ? { anyway: 'true' as const } : {},
      body: body as never,
    })
    setUnreadable(undefined)
    await client.invalidateQueries({ queryKey: keys.sources(place) })
    return saved
  }
  const save = async (name: string, body: Record<string, unknown>): Promise<Source> => {
    try {
      return await send({ name, body }, false)
    } catch (error) {
      const isOurs = error instanceof ProblemError && error.problem.code === 'source-unreadable'
      setUnreadable(isOurs ? { name, body } : undefined)
      throw error
    }
  }
  const anyway = useMutation({ mutationFn: (written: Written) => send(written, true) })
  return { save, anyway, unreadable }
}

/** Offers to save what cannot be read, once that is known. */
export function SaveAnyway({
  of: { anyway, unreadable },
  onSaved,
}: {
  readonly of: ReturnType<typeof useSaveSource>
  readonly onSaved?: (saved: Source) => void
}) {
  if (!unreadable) return null
  return (
    <div>
      <Button
        busy={anyway.isPending}
        onClick={() => anyway.mutate(unreadable, { onSuccess: (saved) => onSaved?.(saved) })}
      >
        Save it all the same
      </Button>
      {anyway.error && <Failure error={anyway.error} />}
    </div>
  )
}
