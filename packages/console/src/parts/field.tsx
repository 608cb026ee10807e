import { CircleX, TriangleAlert } from 'lucide-react'
import { type ReactNode, useId } from 'react'

/** What ties a control to its label, its hint and its fault. */
export type FieldControl = {
  readonly id: string
  readonly 'aria-describedby': string
  readonly 'aria-invalid': boolean
}

type FieldProps = {
  readonly label: string
  readonly hint?: ReactNode
  readonly fault?: string | undefined
  /** What is allowed, and will not look as it was meant. */
  readonly warnings?: readonly string[] | undefined
  readonly children: (control: FieldControl) => ReactNode
}

/** One thing to fill in: its label, its control, and below it a hint, whose place a fault takes; warnings follow. */
export function Field({ label, hint, fault, warnings, children }: FieldProps) {
  const id = useId()
  return (
    <div className="min-w-0">
      <label htmlFor={id} className="mb-1 block font-semibold">
        {label}
      </label>
      {children({ id, 'aria-describedby': `${id}-hint`, 'aria-invalid': fault !== undefined })}
      <div id={`${id}-hint`} className="mt-1 text-sm">
        {fault ? <Fault says={fault} /> : hint && <p className="text-soft">{hint}</p>}
        <Warnings all={warnings} />
      </div>
    </div>
  )
}

/** What is wrong with what was filled in, beside it. */
export const Fault = ({ says }: { readonly says: string }) => (
  <p className="flex items-start gap-1.5 text-red">
    <CircleX size={16} aria-hidden="true" className="mt-0.5 shrink-0" />
    {says}
  </p>
)

/** What may be, and will not look as it was meant. */
export const Warnings = ({ all = [] }: { readonly all?: readonly string[] | undefined }) =>
  all.map((says) => (
    <p key={says} className="flex items-start gap-1.5 text-sm">
      <TriangleAlert size={15} aria-hidden="true" className="mt-1 shrink-0 text-amber" />
      {says}
    </p>
  ))
