import type { ReactNode } from 'react'

export type Fact = readonly [name: string, value: ReactNode]

/** What is known of one thing, name by name. */
export function Facts({ all }: { readonly all: readonly Fact[] }) {
  return (
    <dl className="grid max-w-3xl grid-cols-[8rem_minmax(0,1fr)] gap-y-2">
      {all.map(([name, value]) => (
        <div key={name} className="contents">
          <dt className="text-soft">{name}</dt>
          <dd className="min-w-0 wrap-anywhere">{value}</dd>
        </div>
      ))}
    </dl>
  )
}
