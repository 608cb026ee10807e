import type { ReactNode } from 'react'
import { placeIn } from '../app/place.ts'

export const place = placeIn(
  { slug: 'merrow-sound', name: 'Merrow Sound Ferries', identifiers: {}, createdAt: '2026-11-02T08:00:00Z' },
  'development',
)

export const seasons = [
  { value: 'all', label: 'all year' },
  { value: 'summer', label: 'summer', note: 'May to September' },
] as const

export const Shown = ({ name, children }: { readonly name: string; readonly children: ReactNode }) => (
  <section data-part={name} aria-labelledby={`part-${name}`} className="mt-10 border-t border-line pt-4 pb-2">
    <h2 id={`part-${name}`} className="mb-4">
      {name}
    </h2>
    <div className="grid gap-5">{children}</div>
  </section>
)

export const Row = ({ children }: { readonly children: ReactNode }) => (
  <div className="flex flex-wrap items-center gap-4">{children}</div>
)

export const nothing = () => {}
