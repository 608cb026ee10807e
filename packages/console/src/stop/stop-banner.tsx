import { OctagonX } from 'lucide-react'
import { Link } from 'react-router'
import { useStop } from './use-stop.ts'

/** On every page, for as long as nothing is sent. */
export function StopBanner() {
  const { data } = useStop()
  if (!data?.stopped) return null
  return (
    <p
      className="flex flex-wrap items-center gap-x-2 border-b border-line bg-brass-wash px-4 py-1.5 text-sm md:px-10"
      role="status"
    >
      <OctagonX size={16} aria-hidden="true" className="shrink-0 text-amber" />
      <span>
        <strong>Stopped:</strong> <bdi>{data.stopped.reason}</bdi>. Nothing is sent.
      </span>
      <Link to="/stop">See what waits</Link>
    </p>
  )
}
