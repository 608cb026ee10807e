import { type ReactNode, useId } from 'react'

type FieldProps = {
  readonly label: string
  readonly hint: string
  readonly fault?: string | undefined
  /** What is allowed, and will not look as it was meant. */
  readonly warnings?: readonly string[] | undefined
  readonly children: (props: { id: string; 'aria-describedby': string; 'aria-invalid': boolean }) => ReactNode
}

/** A field with its hint below it; a fault takes the hint's place, and warnings follow. */
export function Field({ label, hint, fault, warnings, children }: FieldProps) {
  const id = useId()
  return (
    <div>
      <label htmlFor={id} className="block font-semibold">
        {label}
      </label>
      {children({ id, 'aria-describedby': `${id}-hint`, 'aria-invalid': fault !== undefined })}
      <div id={`${id}-hint`} className="mt-0.5 text-sm">
        <p className={fault ? 'text-red' : 'text-soft'}>{fault ? `✕ ${fault}` : hint}</p>
        <Warnings all={warnings} />
      </div>
    </div>
  )
}

export const Warnings = ({ all = [] }: { readonly all?: readonly string[] | undefined }) =>
  all.map((says) => (
    <p key={says} className="text-sm">
      <span className="text-amber">△ </span>
      {says}
    </p>
  ))
