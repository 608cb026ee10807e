import { QueryClient } from '@tanstack/react-query'
import { isSignedOut } from './failures.ts'

/** What was read from the service. Nobody is asked again and again who has been signed out. */
export const queries = new QueryClient({
  defaultOptions: { queries: { retry: (failures, error) => !isSignedOut(error) && failures < 2, staleTime: 2_000 } },
})
