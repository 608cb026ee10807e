import type { Fault } from '@zbell/contract'
import { faultsIn } from '@zbell/contract/forms'
import { type ReactNode, useEffect, useRef, useState } from 'react'
import {
  Controller,
  type DefaultValues,
  type FieldErrors,
  type FieldPath,
  type FieldValues,
  get,
  set,
  type UseFormReturn,
  useForm,
} from 'react-hook-form'
import type { z } from 'zod'
import { faultsOf } from '../app/failures.ts'
import { Button } from './button.tsx'
import { Field } from './field.tsx'
import { changed } from './leaving.tsx'
import { Failure, Saved } from './page.tsx'
import { type Option, Select } from './select.tsx'
import { Checkbox } from './toggles.tsx'

/** A form, and how what stands in it becomes the request. */
export type RequestForm<Values extends FieldValues, Request> = {
  readonly form: UseFormReturn<Values>
  readonly requestOf: (values: Values) => Request
  readonly fieldOf: (pointer: string) => string | undefined
}

type RequestFormProps<Values extends FieldValues, Request> = {
  /** The contract's, of the request. */
  readonly schema: z.ZodType<unknown, Request>
  readonly first: Values
  readonly requestOf: (values: Values) => Request
  /** The field that a place of the request is filled in from; the one of the same name when left out. */
  readonly fieldOf?: (pointer: string) => string | undefined
}

/** Fields that become a request of the contract: what the service would refuse is known here, in the same words. */
export function useRequestForm<Values extends FieldValues, Request>({
  schema,
  first,
  requestOf,
  fieldOf = (pointer) => pointer.slice(1).replaceAll('/', '.') || undefined,
}: RequestFormProps<Values, Request>): RequestForm<Values, Request> {
  const form = useForm<Values>({
    defaultValues: first as DefaultValues<Values>,
    mode: 'onTouched',
    resolver: (values) => {
      const request = requestOf(values)
      const read = schema.safeParse(request)
      return read.success
        ? { values, errors: {} }
        : { values: {}, errors: errorsOf(faultsIn(read.error, request), fieldOf) }
    },
  })
  return { form, requestOf, fieldOf }
}

/** The first fault of each field. A fault of no field is left to the service, so that no form can be stuck without a word. */
function errorsOf<Values extends FieldValues>(
  faults: readonly Fault[],
  fieldOf: (pointer: string) => string | undefined,
): FieldErrors<Values> {
  const errors: FieldErrors<Values> = {}
  for (const { pointer, detail } of faults) {
    const field = fieldOf(pointer)
    if (field !== undefined && get(errors, field) === undefined)
      set(errors, field, { type: 'contract', message: detail })
  }
  return errors
}

type FormProps<Values extends FieldValues, Request> = {
  readonly of: RequestForm<Values, Request>
  readonly onSubmit: (request: Request) => Promise<unknown>
  /** Once it is done, and nothing is left to lose: where to go on. */
  readonly onDone?: () => void
  /** The act by its name. */
  readonly submit: string
  readonly rank?: 'primary' | 'secondary'
  /** Whether the fields are empty again afterwards, for the next one. */
  readonly clears?: boolean
  /** Nobody who looks at it may change it. */
  readonly readOnly?: boolean
  readonly className?: string
  readonly children: ReactNode
  /** What came of it, above the button. */
  readonly result?: ReactNode
}

/**
 * Fields that are sent together. What is wrong stands beside its field, or above the button when it is of none; what was typed
 * stays; leaving with changes asks.
 */
export function Form<Values extends FieldValues, Request>(props: FormProps<Values, Request>) {
  const { of, onSubmit, onDone, submit, rank, clears = false, readOnly = false, result, children } = props
  const { form, requestOf, fieldOf } = of
  const [failure, setFailure] = useState<unknown>()
  const [done, setDone] = useState(false)
  const { isSubmitting, isDirty } = form.formState
  const unsent = useRef(false)
  unsent.current = isDirty && !isSubmitting
  useEffect(() => changed.watch(unsent), [])
  const send = form.handleSubmit(async (values) => {
    setFailure(undefined)
    setDone(false)
    try {
      await onSubmit(requestOf(values))
    } catch (error) {
      const faults = Object.entries(faultsOf(error)).map(([pointer, message]) => ({ field: fieldOf(pointer), message }))
      for (const { field, message } of faults) if (field) form.setError(field as FieldPath<Values>, { message })
      setFailure(faults.some(({ field }) => field !== undefined) ? undefined : error)
      return
    }
    form.reset(clears ? undefined : values)
    setDone(true)
    unsent.current = false
    onDone?.()
  })
  return (
    <form noValidate onSubmit={(event) => void send(event)} className={`grid gap-4 ${props.className ?? ''}`}>
      {children}
      {failure !== undefined && <Failure error={failure} />}
      {result}
      {!readOnly && (
        <div className="flex flex-wrap items-center gap-4">
          <Button type="submit" rank={rank ?? 'secondary'} busy={isSubmitting}>
            {submit}
          </Button>
          <Saved when={done && !isDirty && result === undefined} />
        </div>
      )}
    </form>
  )
}

type InputProps<Values extends FieldValues, Request> = {
  readonly of: RequestForm<Values, Request>
  readonly name: FieldPath<Values>
  readonly label: string
  readonly hint?: string
  readonly disabled?: boolean
}

type TextProps = {
  readonly placeholder?: string
  /** A name that programs read stands in letters of one width. */
  readonly code?: boolean
  readonly numeric?: boolean
  readonly secret?: boolean
  readonly className?: string
}

/** A line of text in a form. While somebody fills in the others, an empty one is no fault. */
export function TextInput<Values extends FieldValues, Request>(props: InputProps<Values, Request> & TextProps) {
  const { of, name, label, hint, code, numeric, secret, className = '', ...input } = props
  return (
    <Controller
      control={of.form.control}
      name={name}
      render={({ field, fieldState, formState }) => (
        <Field
          label={label}
          hint={hint}
          fault={formState.isSubmitted || fieldState.isDirty ? fieldState.error?.message : undefined}
        >
          {(control) => (
            <input
              {...control}
              {...field}
              {...input}
              type={secret ? 'password' : 'text'}
              autoComplete="off"
              inputMode={numeric ? 'numeric' : undefined}
              className={`${code ? 'font-mono text-sm' : ''} ${className}`}
            />
          )}
        </Field>
      )}
    />
  )
}

/** One of a few in a form. */
export function ChoiceInput<Values extends FieldValues, Request, Value extends string>(
  props: InputProps<Values, Request> & { readonly options: readonly Option<Value>[] },
) {
  const { of, name, label, hint, options } = props
  return (
    <Controller
      control={of.form.control}
      name={name}
      render={({ field, fieldState }) => (
        <Field label={label} hint={hint} fault={fieldState.error?.message}>
          {(control) => <Select {...control} value={field.value} options={options} onChange={field.onChange} />}
        </Field>
      )}
    />
  )
}

/** Something that holds or does not, in a form. */
export function CheckInput<Values extends FieldValues, Request>(props: InputProps<Values, Request>) {
  const { of, name, label, hint, disabled } = props
  return (
    <Controller
      control={of.form.control}
      name={name}
      render={({ field }) => (
        <div>
          <Checkbox checked={field.value === true} disabled={disabled ?? false} onChange={field.onChange}>
            <span className="font-semibold">{label}</span>
          </Checkbox>
          {hint && <p className="ms-7.5 text-sm text-soft">{hint}</p>}
        </div>
      )}
    />
  )
}
