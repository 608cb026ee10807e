import { useQuery } from '@tanstack/react-query'
import { Navigate } from 'react-router'
import { keys } from '../app/live.ts'
import { usePlace } from '../app/place.ts'
import { Failure, Waiting } from '../parts/page.tsx'

/** Whoever is new begins with Setup; once something rings, with what became of it. */
export function Start() {
  const place = usePlace()
  const { data, error } = useQuery({
    queryKey: keys.setup(place),
    queryFn: () => place.call('readSetup'),
  })
  if (data) return <Navigate to={data.platforms.some(({ ready }) => ready) ? '/activity' : '/setup'} replace />
  return <div className="p-10">{error ? <Failure error={error} /> : <Waiting />}</div>
}
