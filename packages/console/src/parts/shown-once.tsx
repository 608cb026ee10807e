import { Check, Copy } from 'lucide-react'
import { useState } from 'react'
import { Button } from './button.tsx'

/** A secret that was just made. Nobody can read it again, so it can be copied whole. @param for what it is good for */
export function ShownOnce({ secret, for: good }: { readonly secret: string; readonly for?: string }) {
  const [copied, setCopied] = useState(false)
  const copy = () => navigator.clipboard.writeText(secret).then(() => setCopied(true))
  return (
    <div role="status">
      <p className="font-semibold">Copy it now; it is shown this once.</p>
      {good && <p>{good}</p>}
      <p className="mt-1 rounded-control bg-sunken px-4 py-3 font-mono text-sm break-all select-all">{secret}</p>
      {navigator.clipboard && (
        <Button rank="quiet" icon={copied ? Check : Copy} className="mt-1" onClick={() => void copy()}>
          {copied ? 'Copied' : 'Copy it'}
        </Button>
      )}
    </div>
  )
}
