import { Tabs as Radix } from 'radix-ui'
import type { ReactNode } from 'react'

type TabsProps<Name extends string> = {
  /** What the tabs are, for who cannot see them side by side. */
  readonly label: string
  readonly value: Name
  readonly onChange: (value: Name) => void
  readonly tabs: readonly { readonly value: Name; readonly label: ReactNode; readonly lang?: string }[]
  /** What stands at the end of the row of tabs. */
  readonly more?: ReactNode
  readonly children: ReactNode
}

/** Several views of one thing, of which one is seen at a time: the languages of a text, the sides of a page. */
export function Tabs<Name extends string>({ label, value, onChange, tabs, more, children }: TabsProps<Name>) {
  return (
    <Radix.Root value={value} onValueChange={(chosen) => onChange(chosen as Name)}>
      <div className="flex flex-wrap items-end justify-between gap-x-4 gap-y-2 border-b border-line">
        <Radix.List aria-label={label} className="flex flex-wrap">
          {tabs.map((one) => (
            <Radix.Trigger
              key={one.value}
              value={one.value}
              lang={one.lang}
              className="-mb-px cursor-pointer border-b-2 border-transparent px-3 py-1.5 text-soft hover:text-ink data-[state=active]:border-brass data-[state=active]:font-semibold data-[state=active]:text-ink"
            >
              {one.label}
            </Radix.Trigger>
          ))}
        </Radix.List>
        {more}
      </div>
      <Radix.Content value={value} className="mt-5">
        {children}
      </Radix.Content>
    </Radix.Root>
  )
}
