import { type ReactNode, useId } from 'react'

type FieldProps = {
  readonly label: string
  readonly hint: string
  readonly fault?: string | undefined
  readonly children: (props: { id: string; 'aria-describedby': string; 'aria-invalid': boolean }) => ReactNode
}

/** A field with its hint below it; a fault takes the hint's place. */
export function Field({ label, hint, fault, children }: FieldProps) {
  const id = useId()
  return (
    <div>
      <label htmlFor={id} className="block font-semibold">
        {label}
      </label>
      {children({ id, 'aria-describedby': `${id}-hint`, 'aria-invalid': fault !== undefined })}
      <p id={`${id}-hint`} className={`mt-0.5 text-sm ${fault ? 'text-red' : 'text-soft'}`}>
        {fault ? `✕ ${fault}` : hint}
      </p>
    </div>
  )
}
