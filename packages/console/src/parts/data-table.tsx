import {
  columnResizingFeature,
  columnSizingFeature,
  columnVisibilityFeature,
  createColumnHelper,
  tableFeatures,
  useTable,
} from '@tanstack/react-table'
import { useVirtualizer } from '@tanstack/react-virtual'
import { ArrowDown, ArrowUp, ChevronsUpDown, Columns3 } from 'lucide-react'
import { type ReactNode, useMemo, useRef, useState } from 'react'
import { Button } from './button.tsx'
import type { Order } from './order.ts'
import { Popover } from './popover.tsx'
import { Checkbox } from './toggles.tsx'

/** One column of a table. */
export type Column<Row, Sort extends string = string> = {
  /** Small and stable: the choice of columns and their widths are kept under it. */
  readonly name: string
  readonly title: string
  readonly cell: (row: Row) => ReactNode
  /** It tells rows apart, and is always there. */
  readonly always?: boolean
  /** Not shown until somebody chooses it. */
  readonly hidden?: boolean
  /** By what the list can be put in order with it. */
  readonly sort?: Sort
  /** Numbers stand under each other. */
  readonly align?: 'end'
  /** In pixels, until somebody drags it; what is left is shared out. */
  readonly width?: number
  /** Left out on a phone, where the first column tells it in a second line. */
  readonly wide?: boolean
}

type DataTableProps<Row, Sort extends string> = {
  /** What is listed, for who hears the page. */
  readonly label: string
  /** Names this table's choices in this browser. */
  readonly name: string
  readonly rows: readonly Row[]
  readonly idOf: (row: Row) => string
  readonly columns: readonly Column<Row, Sort>[]
  readonly order?: Order<Sort>
  /** What stands above it at the start: filters, exports. */
  readonly tools?: ReactNode
  /** What is said when no row fits the filters. */
  readonly none?: string
  /** On a phone the cells of a row stand under each other, where there is too much for a line. */
  readonly cards?: boolean
  /** The row that the rest of the page is about. */
  readonly current?: string
}

const features = tableFeatures({ columnSizingFeature, columnResizingFeature, columnVisibilityFeature })
const helper = createColumnHelper<typeof features, { readonly row: unknown }>()

/** From so many rows on, only those in sight are drawn. */
const drawnWhole = 200
/** About as high as a row is before it was measured, in pixels. */
const likelyRowHeight = 48

type TableState = {
  readonly shown: Readonly<Record<string, boolean>>
  readonly widths: Readonly<Record<string, number>>
}

/** A choice of this browser's, which outlives the visit. */
function useKept(name: string): readonly [TableState, (part: Partial<TableState>) => void] {
  const keptAs = `bell-table-${name}`
  const [kept, set] = useState<TableState>(() => ({
    shown: {},
    widths: {},
    ...(JSON.parse(localStorage.getItem(keptAs) ?? '{}') as Partial<TableState>),
  }))
  return [
    kept,
    (part) =>
      set((before) => {
        const next = { ...before, ...part }
        localStorage.setItem(keptAs, JSON.stringify(next))
        return next
      }),
  ]
}

/**
 * A list of things with what is known of each. Columns are chosen and made wider by who looks; the list is put in order by
 * their heads. A hundred thousand rows are no more work than two hundred: only what is in sight is drawn.
 */
export function DataTable<Row, Sort extends string = never>(props: DataTableProps<Row, Sort>) {
  const { label, name, rows, idOf, columns, order, tools, none = 'Nothing fits.', cards = false, current } = props
  const [kept, keep] = useKept(name)
  const data = useMemo(() => rows.map((row) => ({ row })), [rows])
  const definitions = useMemo(
    () =>
      helper.columns(
        columns.map((column) =>
          helper.display({
            id: column.name,
            header: column.title,
            cell: ({ row }) => column.cell(row.original.row as Row),
            size: column.width ?? 160,
            minSize: 64,
            enableHiding: !column.always,
          }),
        ),
      ),
    [columns],
  )
  const visibility = Object.fromEntries(
    columns.map((one) => [one.name, one.always ? true : (kept.shown[one.name] ?? !one.hidden)]),
  )
  const table = useTable({
    features,
    columns: definitions,
    data,
    getRowId: ({ row }) => idOf(row as Row),
    columnResizeMode: 'onEnd',
    state: { columnVisibility: visibility, columnSizing: kept.widths },
    onColumnSizingChange: (change) =>
      keep({ widths: typeof change === 'function' ? change(kept.widths as Record<string, number>) : change }),
  })
  const byName = new Map(columns.map((one) => [one.name, one]))
  const heads = table.getHeaderGroups().flatMap((group) => group.headers)
  const all = table.getRowModel().rows
  // A short table within a page needs no choice; one that is a page of its own has tools.
  const chooses = tools !== undefined && columns.some((one) => !one.always)
  return (
    <div>
      {(tools || chooses) && (
        <div className="mb-3 flex flex-wrap items-end justify-between gap-4">
          <div className="flex flex-wrap items-end gap-4 max-md:grow">{tools}</div>
          {chooses && (
            <ColumnChoice
              columns={columns}
              shown={visibility}
              onChoose={(column, on) => keep({ shown: { ...kept.shown, [column]: on } })}
            />
          )}
        </div>
      )}
      {all.length === 0 ? (
        <p className="py-6 text-soft">{none}</p>
      ) : (
        <Rows
          label={label}
          count={all.length}
          cards={cards}
          current={current}
          head={
            <tr>
              {heads.map((head) => {
                const column = byName.get(head.column.id)!
                const width = kept.widths[column.name] ?? column.width
                return (
                  <th
                    key={head.id}
                    scope="col"
                    style={width === undefined ? undefined : { width }}
                    className={`group relative ${column.align === 'end' ? 'text-end' : ''} ${column.wide ? 'max-md:hidden' : ''}`}
                    {...(column.sort !== undefined && order?.sort === column.sort
                      ? { 'aria-sort': order.direction }
                      : {})}
                  >
                    <Head title={column.title} sort={column.sort} order={order} />
                    <span
                      aria-hidden="true"
                      className="absolute inset-y-1 end-2 w-1 cursor-col-resize touch-none rounded-pill group-hover:bg-line hover:bg-edge"
                      onMouseDown={head.getResizeHandler()}
                      onTouchStart={head.getResizeHandler()}
                    />
                  </th>
                )
              })}
            </tr>
          }
          row={(index) => {
            const row = all[index]!
            return row.getVisibleCells().map((cell) => {
              const column = byName.get(cell.column.id)!
              return (
                <td
                  key={cell.id}
                  className={`${column.align === 'end' ? `text-end whitespace-nowrap ${cards ? 'max-md:text-start' : ''}` : ''} ${column.wide ? 'max-md:hidden' : cards ? 'max-md:block max-md:py-0.5' : ''} break-words`}
                >
                  <table.FlexRender cell={cell} />
                </td>
              )
            })
          }}
          keyOf={(index) => all[index]!.id}
        />
      )}
    </div>
  )
}

type ChoiceProps = {
  readonly columns: readonly { readonly name: string; readonly title: string; readonly always?: boolean }[]
  readonly shown: Readonly<Record<string, boolean>>
  readonly onChoose: (column: string, on: boolean) => void
}

/** Which columns are shown. */
function ColumnChoice({ columns, shown, onChoose }: ChoiceProps) {
  return (
    <Popover
      trigger={
        // On a phone only those are shown that are always there.
        <Button icon={Columns3} className="max-md:hidden">
          Columns
        </Button>
      }
      label="Columns"
      align="end"
    >
      <div className="grid max-h-[min(24rem,60dvh)] gap-1.5 overflow-y-auto">
        {columns
          .filter((one) => !one.always)
          .map((one) => (
            <Checkbox key={one.name} checked={shown[one.name] ?? false} onChange={(on) => onChoose(one.name, on)}>
              {one.title}
            </Checkbox>
          ))}
      </div>
    </Popover>
  )
}

type HeadProps<Sort extends string> = {
  readonly title: string
  readonly sort: Sort | undefined
  readonly order: Order<Sort> | undefined
}

function Head<Sort extends string>({ title, sort, order }: HeadProps<Sort>) {
  if (sort === undefined || order === undefined) return <>{title}</>
  const orders = order.sort === sort
  const Icon = orders ? (order.direction === 'ascending' ? ArrowUp : ArrowDown) : ChevronsUpDown
  return (
    <button
      type="button"
      onClick={() => order.by(sort)}
      className={`inline-flex cursor-pointer items-center gap-1 whitespace-nowrap hover:text-ink ${orders ? 'text-ink' : ''}`}
    >
      {title}
      <Icon size={15} aria-hidden="true" className={orders ? '' : 'opacity-50'} />
    </button>
  )
}

type RowsProps = {
  readonly label: string
  readonly head: ReactNode
  readonly count: number
  readonly cards: boolean
  readonly current: string | undefined
  readonly row: (index: number) => ReactNode
  readonly keyOf: (index: number) => string
}

/** A few rows as a table like any other; many in a part of the page that scrolls by itself. */
function Rows({ label, head, count, cards, current, row, keyOf }: RowsProps) {
  const scroller = useRef<HTMLDivElement>(null)
  const many = count > drawnWhole
  const virtual = useVirtualizer({
    count: many ? count : 0,
    getScrollElement: () => scroller.current,
    estimateSize: () => likelyRowHeight,
    getItemKey: keyOf,
    overscan: 12,
  })
  const items = virtual.getVirtualItems()
  const before = items[0]?.start ?? 0
  const after = virtual.getTotalSize() - (items.at(-1)?.end ?? 0)
  return (
    <div
      ref={scroller}
      className={many ? 'max-h-[70dvh] overflow-auto' : 'overflow-x-auto'}
      {...(many ? { tabIndex: 0, role: 'region', 'aria-label': label } : {})}
    >
      <table
        aria-label={label}
        aria-rowcount={many ? count + 1 : undefined}
        className={`w-full ${cards ? 'max-md:block' : ''}`}
      >
        <thead className={`${many ? 'sticky top-0 z-10 bg-ground' : ''} ${cards ? 'max-md:sr-only' : ''}`}>
          {head}
        </thead>
        <tbody className={cards ? 'max-md:block' : ''}>
          {!many &&
            Array.from({ length: count }, (_, index) => {
              const id = keyOf(index)
              return (
                <tr
                  key={id}
                  aria-current={id === current ? 'true' : undefined}
                  className={cards ? 'max-md:block max-md:py-2' : ''}
                >
                  {row(index)}
                </tr>
              )
            })}
          {many && before > 0 && (
            <tr>
              <td style={{ height: before, padding: 0 }} />
            </tr>
          )}
          {items.map((item) => (
            <tr key={item.key} ref={virtual.measureElement} data-index={item.index} aria-rowindex={item.index + 2}>
              {row(item.index)}
            </tr>
          ))}
          {many && after > 0 && (
            <tr>
              <td style={{ height: after, padding: 0 }} />
            </tr>
          )}
        </tbody>
      </table>
    </div>
  )
}
