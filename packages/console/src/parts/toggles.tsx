import { Check, Minus } from 'lucide-react'
import { Checkbox as RadixCheckbox, Switch as RadixSwitch, ToggleGroup } from 'radix-ui'
import { type ReactNode, useId } from 'react'

type CheckboxProps = {
  readonly checked: boolean | 'indeterminate'
  readonly onChange: (checked: boolean) => void
  readonly children: ReactNode
  /** Seen only by who hears the page, as in the row of a table. */
  readonly hideLabel?: boolean
  readonly disabled?: boolean
}

/** One of several that may each be chosen. What counts at once, without a form, is a {@link Switch}. */
export function Checkbox({ checked, onChange, children, hideLabel, disabled = false }: CheckboxProps) {
  const id = useId()
  return (
    <span className="inline-flex items-center gap-2.5">
      <RadixCheckbox.Root
        id={id}
        checked={checked}
        disabled={disabled}
        onCheckedChange={(now) => onChange(now === true)}
        className="inline-flex size-5 shrink-0 cursor-pointer items-center justify-center rounded border border-edge bg-surface data-[state=checked]:border-ink data-[state=checked]:bg-ink data-[state=checked]:text-ground data-[state=indeterminate]:bg-sunken"
      >
        <RadixCheckbox.Indicator>
          {checked === 'indeterminate' ? (
            <Minus size={14} aria-hidden="true" />
          ) : (
            <Check size={15} aria-hidden="true" />
          )}
        </RadixCheckbox.Indicator>
      </RadixCheckbox.Root>
      <label htmlFor={id} className={hideLabel ? 'sr-only' : 'cursor-pointer'}>
        {children}
      </label>
    </span>
  )
}

type SwitchProps = {
  readonly checked: boolean
  readonly onChange: (checked: boolean) => void
  readonly children: ReactNode
  readonly disabled?: boolean
}

/** Something that is on or off, and changes as soon as it is pressed. */
export function Switch({ checked, onChange, children, disabled = false }: SwitchProps) {
  const id = useId()
  return (
    <span className="inline-flex items-center gap-3">
      <RadixSwitch.Root
        id={id}
        checked={checked}
        disabled={disabled}
        onCheckedChange={onChange}
        className="inline-flex h-6 w-11 shrink-0 cursor-pointer items-center rounded-pill border border-edge bg-sunken px-0.5 transition-colors duration-(--duration-answer) disabled:opacity-55 data-[state=checked]:border-sea data-[state=checked]:bg-sea"
      >
        <RadixSwitch.Thumb className="size-4.5 rounded-pill bg-edge transition-transform duration-(--duration-answer) data-[state=checked]:translate-x-5 data-[state=checked]:bg-ground rtl:data-[state=checked]:-translate-x-5" />
      </RadixSwitch.Root>
      <label htmlFor={id} className="cursor-pointer">
        {children}
      </label>
    </span>
  )
}

type SegmentsProps<Value extends string> = {
  readonly label: string
  /** Empty where none holds. */
  readonly value: Value | ''
  readonly onChange: (value: Value) => void
  readonly options: readonly Value[]
  /** On the rail, which is night by day as well. */
  readonly byNight?: boolean
  readonly disabled?: boolean
}

/** One of two or three short words side by side, such as an environment; it counts at once. */
export function Segments<Value extends string>(props: SegmentsProps<Value>) {
  const { label, value, options, onChange, byNight, disabled = false } = props
  const looks = byNight
    ? 'border-night-line [&>button]:text-on-night-soft [&>button]:data-[state=on]:bg-on-night [&>button]:data-[state=on]:text-[#14293a]'
    : 'border-edge [&>button]:text-soft [&>button]:data-[state=on]:bg-ink [&>button]:data-[state=on]:text-ground'
  return (
    <ToggleGroup.Root
      type="single"
      aria-label={label}
      value={value}
      disabled={disabled}
      onValueChange={(chosen) => chosen && onChange(chosen as Value)}
      className={`flex w-full overflow-hidden rounded-control border text-sm ${looks}`}
    >
      {options.map((option) => (
        <ToggleGroup.Item
          key={option}
          value={option}
          className="flex-1 cursor-pointer px-2 py-1 disabled:cursor-default disabled:opacity-55 data-[state=on]:font-semibold"
        >
          {option}
        </ToggleGroup.Item>
      ))}
    </ToggleGroup.Root>
  )
}
