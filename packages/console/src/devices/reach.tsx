import type { Device } from '@zbell/contract'

const retiredWords: Partial<Record<string, string>> = {
  'token-gone': 'Its token is gone: the app was removed, or the platform gave another one.',
  'token-moved': 'Another installation took its token.',
  unregistered: 'The app said goodbye.',
}

/** Muted, denied, not asked and retired are four different things, and each is said as itself. */
export function Reach({ device }: { readonly device: Device }) {
  if (device.retiredAt)
    return (
      <Word
        tone="text-red"
        shape="✕"
        text="retired"
        why={retiredWords[device.retiredReason ?? ''] ?? 'It registered no more.'}
      />
    )
  if (device.permission === 'denied')
    return <Word tone="text-soft" shape="–" text="denied" why="The user said no to notifications." />
  if (device.permission === 'prompt')
    return <Word tone="text-amber" shape="◌" text="not asked" why="The app has not asked yet." />
  if (device.muted) return <Word tone="text-soft" shape="–" text="muted" why="Turned off inside the app." />
  if (device.rehearsal) return <Word tone="text-amber" shape="◑" text="rehearses" why="It is a virtual handset’s." />
  return <Word tone="text-sea" shape="●" text="yes" />
}

function Word({
  tone,
  shape,
  text,
  why,
}: {
  readonly tone: string
  readonly shape: string
  readonly text: string
  readonly why?: string
}) {
  return (
    <>
      <span className={`whitespace-nowrap ${tone}`}>
        <span aria-hidden="true" className="inline-block w-5">
          {shape}
        </span>
        {text}
      </span>
      {why && <span className="block text-sm text-soft">{why}</span>}
    </>
  )
}
