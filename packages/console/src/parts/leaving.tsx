import { type RefObject, useEffect } from 'react'
import { useBlocker } from 'react-router'
import { Button } from './button.tsx'
import { Dialog } from './dialog.tsx'

const watched = new Set<RefObject<boolean>>()

/** Forms on this page that hold what was changed and not sent. */
export const changed = {
  /** @returns what takes it out again */
  watch(unsent: RefObject<boolean>): () => void {
    watched.add(unsent)
    return () => {
      watched.delete(unsent)
    }
  },
  any: (): boolean => [...watched].some(({ current }) => current),
}

/** Asks before a page is left on which something was changed and not sent. It stands once, in the frame. */
export function LeavingAsks() {
  const blocker = useBlocker(
    ({ currentLocation, nextLocation }) => currentLocation.pathname !== nextLocation.pathname && changed.any(),
  )
  useEffect(() => {
    const ask = (event: BeforeUnloadEvent) => {
      if (changed.any()) event.preventDefault()
    }
    addEventListener('beforeunload', ask)
    return () => removeEventListener('beforeunload', ask)
  }, [])
  return (
    <Dialog
      title="Leave without saving?"
      about="What was changed on this page has not been saved, and would be lost."
      open={blocker.state === 'blocked'}
      onOpenChange={(open) => !open && blocker.reset?.()}
    >
      <div className="flex flex-wrap justify-end gap-3">
        <Button onClick={() => blocker.reset?.()}>Stay here</Button>
        <Button rank="danger" onClick={() => blocker.proceed?.()}>
          Leave
        </Button>
      </div>
    </Dialog>
  )
}
