import { zodResolver } from '@hookform/resolvers/zod'
import { type ReactNode, useEffect, useState } from 'react'
import {
  type DefaultValues,
  type FieldPath,
  type FieldValues,
  FormProvider,
  type UseFormReturn,
  useForm,
} from 'react-hook-form'
import { useBlocker } from 'react-router'
import type { z } from 'zod'
import { faultsOf } from '../app/failures.ts'
import { Button } from './button.tsx'
import { Dialog } from './dialog.tsx'
import { Failure, Saved } from './page.tsx'

/** A form over a schema of the contract: what the service would refuse is said while one writes, beside its field. */
export const useSchemaForm = <Values extends FieldValues>(
  schema: z.ZodType<unknown, Values>,
  defaults: DefaultValues<Values>,
): UseFormReturn<Values> =>
  useForm<Values>({
    resolver: zodResolver(schema as never) as never,
    defaultValues: defaults,
    mode: 'onTouched',
  })

type FormProps<Values extends FieldValues> = {
  readonly form: UseFormReturn<Values>
  readonly onSubmit: (values: Values) => Promise<unknown>
  /** The act by its name. */
  readonly submit: string
  /** What stands beside it. */
  readonly more?: ReactNode
  /** Asks before what was typed is left behind. */
  readonly keeps?: boolean
  readonly children: ReactNode
}

/**
 * Fields that are sent together. What the service refuses stands beside its field, or below all when it is of none; what was
 * typed stays; and leaving with changes asks.
 */
export function Form<Values extends FieldValues>(props: FormProps<Values>) {
  const { form, onSubmit, submit, more, keeps = true, children } = props
  const [failure, setFailure] = useState<unknown>()
  const { isSubmitting, isDirty, isSubmitSuccessful } = form.formState
  const send = form.handleSubmit(async (values) => {
    setFailure(undefined)
    try {
      await onSubmit(values)
      form.reset(values)
    } catch (error) {
      const faults = Object.entries(faultsOf(error))
      for (const [pointer, message] of faults)
        form.setError(pointer.slice(1).replaceAll('/', '.') as FieldPath<Values>, { message })
      setFailure(faults.length === 0 ? error : undefined)
    }
  })
  return (
    <FormProvider {...form}>
      <form noValidate onSubmit={(event) => void send(event)} className="grid max-w-2xl gap-(--field-gap)">
        {children}
        {failure !== undefined && <Failure error={failure} />}
        <div className="flex flex-wrap items-center gap-4">
          <Button type="submit" rank="primary" busy={isSubmitting}>
            {submit}
          </Button>
          {more}
          {isSubmitSuccessful && !isDirty && <Saved when />}
        </div>
      </form>
      {keeps && <LeavingAsks changed={isDirty && !isSubmitting} />}
    </FormProvider>
  )
}

/** Asks before a page is left on which something was changed and not sent. */
export function LeavingAsks({ changed }: { readonly changed: boolean }) {
  const blocker = useBlocker(
    ({ currentLocation, nextLocation }) => changed && currentLocation.pathname !== nextLocation.pathname,
  )
  useEffect(() => {
    if (!changed) return
    const ask = (event: BeforeUnloadEvent) => event.preventDefault()
    addEventListener('beforeunload', ask)
    return () => removeEventListener('beforeunload', ask)
  }, [changed])
  return (
    <Dialog
      title="Leave without saving?"
      about="What was changed here has not been saved, and would be lost."
      open={blocker.state === 'blocked'}
      onOpenChange={(open) => !open && blocker.reset?.()}
    >
      <div className="flex flex-wrap justify-end gap-3">
        <Button onClick={() => blocker.reset?.()}>Stay here</Button>
        <Button rank="danger" onClick={() => blocker.proceed?.()}>
          Leave
        </Button>
      </div>
    </Dialog>
  )
}
