import type { Direction } from '@zbell/contract/words'
import { useSearchParams } from 'react-router'

/** What a list is in order by. */
export type Order<Sort extends string> = {
  readonly sort: Sort
  readonly direction: Direction
  /** By this column; the one that orders already turns round. */
  by(column: Sort): void
}

/**
 * The order of a list, which stands in the page's address, so that a view can be shared.
 * @param sorts by what it can be put in order, each with the direction in which it goes first
 */
export function useOrder<Sort extends string>(first: Sort, sorts: Readonly<Record<Sort, Direction>>): Order<Sort> {
  const [search, setSearch] = useSearchParams()
  const named = search.get('sort')
  const sort = named !== null && Object.hasOwn(sorts, named) ? (named as Sort) : first
  const direction = (['ascending', 'descending'] as const).find((one) => one === search.get('direction')) ?? sorts[sort]
  return {
    sort,
    direction,
    by(column) {
      const turned = direction === 'ascending' ? 'descending' : 'ascending'
      setSearch(
        (before) => {
          const next = new URLSearchParams(before)
          next.set('sort', column)
          next.set('direction', column === sort ? turned : sorts[column])
          next.delete('after')
          return next
        },
        { replace: true },
      )
    },
  }
}
