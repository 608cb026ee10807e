import { Check, ChevronDown } from 'lucide-react'
import { Select as Radix } from 'radix-ui'
import { useRef, useState } from 'react'
import { nonce } from './nonce.ts'
import { useStayInView } from './stay-in-view.ts'

export type Option<Value extends string> = {
  readonly value: Value
  readonly label: string
  /** What choosing it means, in a line below. */
  readonly note?: string
}

type SelectProps<Value extends string> = {
  readonly value: Value
  readonly options: readonly Option<Value>[]
  readonly onChange: (value: Value) => void
  /** Where no field names it. */
  readonly label?: string
  readonly id?: string
  readonly 'aria-describedby'?: string
  readonly 'aria-invalid'?: boolean
  readonly className?: string
}

/**
 * One of a few, up to about fifteen; two or three short words stand side by side in Segments.
 */
export function Select<Value extends string>({
  value,
  options,
  onChange,
  label,
  className = 'w-full',
  ...field
}: SelectProps<Value>) {
  const [open, setOpen] = useState(false)
  const trigger = useRef<HTMLButtonElement>(null)
  useStayInView(open, trigger)
  return (
    // The empty value means "none chosen" to the primitive, so it is kept out of its sight.
    <Radix.Root
      value={`=${value}`}
      onValueChange={(chosen) => onChange(chosen.slice(1) as Value)}
      open={open}
      onOpenChange={setOpen}
    >
      <Radix.Trigger
        {...field}
        ref={trigger}
        aria-label={label}
        className={`inline-flex min-h-(--control-height) cursor-pointer items-center justify-between gap-2 rounded-control border border-edge bg-surface px-(--control-pad) py-1 text-start ${className}`}
      >
        <span className="truncate">
          <Radix.Value />
        </span>
        <ChevronDown size={18} aria-hidden="true" className="shrink-0 text-soft" />
      </Radix.Trigger>
      <Radix.Portal>
        <Radix.Content
          position="popper"
          sideOffset={4}
          collisionPadding={8}
          className="z-30 max-h-[min(24rem,60dvh)] min-w-(--radix-select-trigger-width) animate-come overflow-hidden rounded-float border border-line bg-raised shadow-float"
        >
          <Radix.Viewport nonce={nonce} className="p-1">
            {options.map((one) => (
              <Radix.Item
                key={one.value}
                value={`=${one.value}`}
                className="relative cursor-pointer rounded-control py-1.5 ps-8 pe-4 outline-none select-none data-[highlighted]:bg-sunken"
              >
                <Radix.ItemIndicator className="absolute start-2 top-2.5 text-brass">
                  <Check size={16} aria-hidden="true" />
                </Radix.ItemIndicator>
                <Radix.ItemText>{one.label}</Radix.ItemText>
                {one.note && <span className="block text-sm text-soft">{one.note}</span>}
              </Radix.Item>
            ))}
          </Radix.Viewport>
        </Radix.Content>
      </Radix.Portal>
    </Radix.Root>
  )
}
