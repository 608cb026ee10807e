import type { Source } from '@zbell/contract'

/** Whether a source can be read, in a word. */
export function SourceState({ of: { fault, leftOut, kind, polledAt } }: { readonly of: Source }) {
  if (fault !== null) return <span className="whitespace-nowrap text-red">✕ away</span>
  if (leftOut !== null) return <span className="whitespace-nowrap text-amber">▲ leaves rows out</span>
  return polledAt !== null || kind === 'incoming' ? (
    <span className="whitespace-nowrap text-sea">● fine</span>
  ) : (
    <span className="whitespace-nowrap text-soft">– not polled yet</span>
  )
}
