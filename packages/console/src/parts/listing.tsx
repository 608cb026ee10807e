import type { ReactNode } from 'react'
import { Empty, Failure, Waiting } from './page.tsx'

type ListingProps<Row> = {
  readonly of: { readonly data: readonly Row[] | undefined; readonly error: Error | null }
  /** What would stand here, for who has none yet, and how to make one. */
  readonly what: string
  readonly example: string
  readonly children: (rows: readonly Row[]) => ReactNode
}

/** A list that is being read, could not be, has nothing yet, or is there. */
export function Listing<Row>({ of: { data, error }, what, example, children }: ListingProps<Row>) {
  if (error) return <Failure error={error} />
  if (!data) return <Waiting />
  return data.length === 0 ? <Empty what={what} example={example} /> : children(data)
}
