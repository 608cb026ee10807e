import { Check, Minus } from 'lucide-react'
import {
  Checkbox as RadixCheckbox,
  RadioGroup as RadixRadios,
  Slider as RadixSlider,
  Switch as RadixSwitch,
  ToggleGroup,
} from 'radix-ui'
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

type Choice<Value extends string> = { readonly value: Value; readonly label: string; readonly note?: string }

type RadioProps<Value extends string> = {
  readonly label: string
  readonly value: Value
  readonly choices: readonly Choice<Value>[]
  readonly onChange: (value: Value) => void
}

/** One of two to five, all of them seen, each with what it means. */
export function RadioGroup<Value extends string>({ label, value, choices, onChange }: RadioProps<Value>) {
  const id = useId()
  return (
    <RadixRadios.Root
      aria-label={label}
      value={value}
      onValueChange={(chosen) => onChange(chosen as Value)}
      className="grid gap-2"
    >
      {choices.map((one) => (
        <span key={one.value} className="flex items-start gap-2.5">
          <RadixRadios.Item
            id={`${id}-${one.value}`}
            value={one.value}
            className="mt-0.5 inline-flex size-5 shrink-0 cursor-pointer items-center justify-center rounded-pill border border-edge bg-surface data-[state=checked]:border-ink"
          >
            <RadixRadios.Indicator className="size-2.5 rounded-pill bg-ink" />
          </RadixRadios.Item>
          <label htmlFor={`${id}-${one.value}`} className="cursor-pointer">
            {one.label}
            {one.note && <span className="block text-sm text-soft">{one.note}</span>}
          </label>
        </span>
      ))}
    </RadixRadios.Root>
  )
}

type SegmentsProps<Value extends string> = Omit<RadioProps<Value>, 'choices'> & {
  readonly options: readonly Value[]
  /** On the rail, which is night by day as well. */
  readonly byNight?: boolean
}

/** One of two or three short words side by side, such as an environment; it counts at once. */
export function Segments<Value extends string>({ label, value, options, onChange, byNight }: SegmentsProps<Value>) {
  const looks = byNight
    ? 'border-night-line [&>button]:text-on-night-soft [&>button]:data-[state=on]:bg-on-night [&>button]:data-[state=on]:text-[#14293a]'
    : 'border-edge [&>button]:text-soft [&>button]:data-[state=on]:bg-ink [&>button]:data-[state=on]:text-ground'
  return (
    <ToggleGroup.Root
      type="single"
      aria-label={label}
      value={value}
      onValueChange={(chosen) => chosen && onChange(chosen as Value)}
      className={`flex w-full overflow-hidden rounded-control border text-sm ${looks}`}
    >
      {options.map((option) => (
        <ToggleGroup.Item
          key={option}
          value={option}
          className="flex-1 cursor-pointer px-2 py-1 data-[state=on]:font-semibold"
        >
          {option}
        </ToggleGroup.Item>
      ))}
    </ToggleGroup.Root>
  )
}

type SliderProps = {
  readonly label: string
  readonly value: number
  readonly min: number
  readonly max: number
  readonly step?: number
  readonly onChange: (value: number) => void
  /** The value in words, such as `10 minutes`. */
  readonly says: (value: number) => string
}

/** A number whose place between two ends says more than its digits. */
export function Slider({ label, value, min, max, step = 1, onChange, says }: SliderProps) {
  return (
    <div className="flex items-center gap-4">
      <RadixSlider.Root
        value={[value]}
        min={min}
        max={max}
        step={step}
        onValueChange={([now]) => now !== undefined && onChange(now)}
        className="relative flex h-5 grow touch-none items-center select-none"
      >
        <RadixSlider.Track className="relative h-1 grow rounded-pill bg-edge">
          <RadixSlider.Range className="absolute h-full rounded-pill bg-ink" />
        </RadixSlider.Track>
        <RadixSlider.Thumb
          aria-label={label}
          aria-valuetext={says(value)}
          className="block size-5 cursor-grab rounded-pill border-2 border-ink bg-raised"
        />
      </RadixSlider.Root>
      <span className="min-w-24 text-end">{says(value)}</span>
    </div>
  )
}
