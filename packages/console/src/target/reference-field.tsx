import { useQuery } from '@tanstack/react-query'
import { Command } from 'cmdk'
import { X } from 'lucide-react'
import { Popover } from 'radix-ui'
import { type KeyboardEvent, useDeferredValue, useEffect, useRef, useState } from 'react'
import { usePlace } from '../app/place.ts'
import type { FieldControl } from '../parts/field.tsx'
import { findReferences } from './find-references.ts'
import { isReference, kindOf, nameIn, readReferences, referenceKinds } from './references.ts'

type Props = FieldControl & {
  readonly label: string
  readonly references: readonly string[]
  readonly onChange: (references: readonly string[]) => void
  readonly placeholder: string
}

/** So many chips are seen of a long list. */
const maxShown = 24

/**
 * References as chips, found as one types: people, topics, devices, who a notification reached, everyone. What is typed or
 * pasted as references is taken as it is, ten thousand at once.
 */
export function ReferenceField({ label, references, onChange, placeholder, ...field }: Props) {
  const [typed, setTyped] = useState('')
  const [open, setOpen] = useState(false)
  const wanted = useDeferredValue(typed.trim())
  const input = useRef<HTMLInputElement>(null)
  // The list has to know its input by a name of its own, so the field's label is led there.
  useEffect(() => {
    const visible = document.querySelector<HTMLLabelElement>(`label[for="${CSS.escape(field.id)}"]`)
    if (visible && input.current) visible.htmlFor = input.current.id
  }, [field.id])
  const found = useFound(wanted, open)
  const add = (more: readonly string[]) => {
    onChange([...new Set([...references, ...more])])
    setTyped('')
    setOpen(false)
  }
  const take = () => {
    const all = readReferences(typed)
    if (all.length > 0 && all.every(isReference)) add(all)
  }
  const remove = (one: string) => {
    onChange(references.filter((other) => other !== one))
    input.current?.focus()
  }
  const onKey = (event: KeyboardEvent) => {
    const isWhole = readReferences(typed).every(isReference) && typed.trim() !== ''
    if ((event.key === ' ' || event.key === ',') && isWhole) {
      event.preventDefault()
      take()
    } else if (event.key === 'Enter' && isWhole) {
      event.preventDefault()
      event.stopPropagation()
      take()
    } else if (event.key === 'Enter' && !open) event.preventDefault()
    else if (event.key === 'Backspace' && typed === '') {
      const last = references.at(-1)
      if (last !== undefined) onChange(references.slice(0, -1))
    } else if (event.key === 'Escape') setOpen(false)
    else if (event.key.length === 1 || event.key === 'ArrowDown') setOpen(true)
  }
  const hits = (found.data ?? []).filter(({ reference }) => !references.includes(reference))
  // Enter takes the first, also when it comes only after the rest.
  const [chosen, choose] = useState('')
  const first = hits[0]?.reference ?? ''
  useEffect(() => choose(first), [first])
  return (
    <Command shouldFilter={false} label={label} value={chosen} onValueChange={choose} onKeyDown={onKey}>
      <Popover.Root open={open && hits.length > 0} onOpenChange={setOpen}>
        <Popover.Anchor asChild>
          {/* biome-ignore lint/a11y/noStaticElementInteractions: a click beside the chips is meant for the input among them */}
          {/* biome-ignore lint/a11y/useKeyWithClickEvents: the input is reached by Tab */}
          <div
            className="flex min-h-(--control-height) cursor-text flex-wrap items-center gap-1.5 rounded-control border border-edge bg-surface px-2 py-1 focus-within:outline-2 focus-within:outline-offset-2 focus-within:outline-brass"
            onClick={() => input.current?.focus()}
          >
            {references.slice(0, maxShown).map((one) => (
              <Chip key={one} reference={one} onRemove={() => remove(one)} />
            ))}
            {references.length > maxShown && (
              <span className="px-1 text-sm text-soft">
                and {(references.length - maxShown).toLocaleString('en')} more
              </span>
            )}
            <Command.Input
              {...field}
              ref={input}
              value={typed}
              onValueChange={(now) => {
                setTyped(now)
                setOpen(true)
              }}
              onFocus={() => setOpen(true)}
              onBlur={() => {
                take()
                setOpen(false)
              }}
              onPaste={(event) => {
                const pasted = readReferences(event.clipboardData.getData('text'))
                if (pasted.length < 2 || !pasted.every(isReference)) return
                event.preventDefault()
                add(pasted)
              }}
              placeholder={references.length === 0 ? placeholder : ''}
              className="min-h-7! min-w-32 flex-1 border-0! bg-transparent! px-1! py-0! shadow-none! outline-none!"
            />
          </div>
        </Popover.Anchor>
        {/* The input always names its list, so there always is one. */}
        {!(open && hits.length > 0) && <Command.List className="hidden" />}
        <Hits hits={hits} onTake={(reference) => add([reference])} />
      </Popover.Root>
    </Command>
  )
}

function useFound(wanted: string, enabled: boolean) {
  const place = usePlace()
  return useQuery({
    queryKey: [place.app.slug, place.environment, 'references', wanted],
    queryFn: () => findReferences(place, wanted.includes(':') ? nameIn(wanted) : wanted),
    enabled,
    placeholderData: (before) => before,
  })
}

type HitsProps = {
  readonly hits: Awaited<ReturnType<typeof findReferences>>
  readonly onTake: (reference: string) => void
}

/** What was found for what is typed. */
function Hits({ hits, onTake }: HitsProps) {
  return (
    <Popover.Portal>
      <Popover.Content
        align="start"
        sideOffset={4}
        collisionPadding={8}
        onOpenAutoFocus={(event) => event.preventDefault()}
        onCloseAutoFocus={(event) => event.preventDefault()}
        onInteractOutside={(event) => event.preventDefault()}
        className="z-30 w-(--radix-popover-trigger-width) min-w-72 overflow-hidden rounded-float border border-line bg-raised shadow-float"
      >
        <Command.List className="max-h-72 overflow-y-auto p-1">
          {hits.map(({ reference, label: name, note }) => {
            const Icon = referenceKinds[kindOf(reference)]!.icon
            return (
              <Command.Item
                key={reference}
                value={reference}
                onMouseDown={(event) => event.preventDefault()}
                onSelect={() => onTake(reference)}
                className="flex cursor-pointer items-center gap-2.5 rounded-control px-2.5 py-1.5 data-[selected=true]:bg-sunken"
              >
                <Icon size={17} aria-hidden="true" className="shrink-0 text-soft" />
                <bdi className="grow truncate">{name}</bdi>
                <span className="shrink-0 text-sm text-soft">{note}</span>
              </Command.Item>
            )
          })}
        </Command.List>
      </Popover.Content>
    </Popover.Portal>
  )
}

function Chip({ reference, onRemove }: { readonly reference: string; readonly onRemove: () => void }) {
  const kind = referenceKinds[kindOf(reference)]
  const Icon = kind?.icon
  return (
    <span
      className={`inline-flex max-w-full items-center gap-1.5 rounded-control py-0.5 ps-2 pe-0.5 text-sm ${kind ? 'bg-sunken' : 'bg-red-wash text-red'}`}
    >
      {Icon && <Icon size={15} aria-label={kind.name} className="shrink-0 text-soft" />}
      <bdi className="truncate" title={reference}>
        {kind ? nameIn(reference) || reference : reference}
      </bdi>
      <button
        type="button"
        aria-label={`Remove ${reference}`}
        className="cursor-pointer rounded p-0.5 hover:bg-line"
        onClick={(event) => {
          event.stopPropagation()
          onRemove()
        }}
      >
        <X size={14} aria-hidden="true" />
      </button>
    </span>
  )
}
