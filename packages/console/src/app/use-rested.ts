import { useEffect, useState } from 'react'

/** So long somebody rests before what they wrote is asked about. */
const restMs = 350

/** What is written, once its writer rests. */
export function useRested(text: string): string {
  const [rested, setRested] = useState(text)
  useEffect(() => {
    const timer = setTimeout(() => setRested(text), restMs)
    return () => clearTimeout(timer)
  }, [text])
  return rested
}
