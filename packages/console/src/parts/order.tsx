import type { Direction } from '@zbell/contract/words'
import { useState } from 'react'

export type Order<Sort extends string> = {
  readonly sort: Sort
  readonly direction: Direction
  /** By this column; the one that orders already turns round. */
  by(column: Sort): void
}

/**
 * What a table is in order by.
 * @param directionOf in which direction a column goes first
 * @param onChange the order is another, so the page is the first again
 */
export function useOrder<Sort extends string>(
  first: Sort,
  directionOf: (column: Sort) => Direction,
  onChange?: () => void,
): Order<Sort> {
  const [now, set] = useState({ sort: first, direction: directionOf(first) })
  return {
    ...now,
    by(column) {
      const turned = now.direction === 'ascending' ? 'descending' : 'ascending'
      set({ sort: column, direction: column === now.sort ? turned : directionOf(column) })
      onChange?.()
    },
  }
}

type HeadProps<Sort extends string> = {
  readonly title: string
  readonly column: Sort
  readonly order: Order<Sort>
  readonly className?: string
}

/** The head of a column by which the table can be put in order. */
export function OrderedHead<Sort extends string>({ title, column, order, className }: HeadProps<Sort>) {
  const orders = order.sort === column
  return (
    <th scope="col" className={className} {...(orders ? { 'aria-sort': order.direction } : {})}>
      <button
        type="button"
        onClick={() => order.by(column)}
        className={`cursor-pointer whitespace-nowrap hover:text-ink ${orders ? 'text-ink' : ''}`}
      >
        {title}
        <span aria-hidden="true" className={`ps-1 text-xs ${orders ? '' : 'opacity-40'}`}>
          {orders ? (order.direction === 'ascending' ? '▲' : '▼') : '↕'}
        </span>
      </button>
    </th>
  )
}
