/** How long something took, in the unit that reads best: `3.2 ms`, `140 ms`, `12.0 s`, `5 min`, `2.5 h`. */
export function span(ms: number): string {
  if (ms < 10) return `${ms.toFixed(1)} ms`
  if (ms < 1_000) return `${Math.round(ms)} ms`
  if (ms < 60_000) return `${(ms / 1_000).toFixed(1)} s`
  if (ms < 3_600_000) return `${Math.round(ms / 60_000)} min`
  return `${(ms / 3_600_000).toFixed(1)} h`
}

/** How long ago, in words: `12 s ago`, `5 min ago`, `3 h ago`, `4 days ago`. What is yet to come is `0 s ago`. */
export function ago(iso: string, nowMs: number): string {
  const seconds = Math.max(0, Math.round((nowMs - Date.parse(iso)) / 1_000))
  if (seconds < 60) return `${seconds} s ago`
  if (seconds < 3_600) return `${Math.round(seconds / 60)} min ago`
  if (seconds < 172_800) return `${Math.round(seconds / 3_600)} h ago`
  return `${Math.round(seconds / 86_400)} days ago`
}
