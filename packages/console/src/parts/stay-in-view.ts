import { type RefObject, useEffect } from 'react'

/**
 * Keeps the button of an open list in view. Such a list stops the page from scrolling, so that what is loaded above
 * it meanwhile could push it out of the window for good.
 */
export function useStayInView(open: boolean, trigger: RefObject<HTMLElement | null>): void {
  useEffect(() => {
    if (!open) return
    const observer = new ResizeObserver(() => trigger.current?.scrollIntoView({ block: 'nearest' }))
    observer.observe(document.body)
    return () => observer.disconnect()
  }, [open, trigger])
}
