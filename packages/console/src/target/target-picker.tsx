import type { Target } from '@zbell/contract'
import { useState } from 'react'
import { More } from '../parts/disclosure.tsx'
import { Field } from '../parts/field.tsx'
import { Checkbox } from '../parts/toggles.tsx'
import { ReferenceField } from './reference-field.tsx'
import { type TargetPart, targetOfText, targetRows, textOfTarget } from './references.ts'

type Props = {
  /** The target of the contract, as it is and as it becomes. */
  readonly target: Target
  readonly onChange: (target: Target) => void
  /** What is wrong, by row. */
  readonly faults?: { readonly [part in TargetPart]?: string | undefined }
}

const platformNames = ['ios', 'android', 'web'] as const

/** Who is meant: rows of references in words, and platforms; or the same as text. */
export function TargetPicker({ target, onChange, faults = {} }: Props) {
  const narrowed = Boolean(target.all?.length || target.none?.length || target.platforms?.length)
  const [more, setMore] = useState(narrowed)
  const [asText, setAsText] = useState(false)
  const set = (part: keyof Target, all: readonly string[]) => {
    const { [part]: _, ...rest } = target
    onChange((all.length === 0 ? rest : { ...rest, [part]: [...all] }) as Target)
  }
  const leaveText = () => {
    setMore(narrowed)
    setAsText(false)
  }
  if (asText) return <TargetText target={target} onChange={onChange} faults={faults} onRows={leaveText} />
  const row = (part: TargetPart, label: string, hint: string) => (
    <Field key={part} label={label} hint={hint} fault={faults[part]}>
      {(control) => (
        <ReferenceField
          {...control}
          label={label}
          references={target[part] ?? []}
          onChange={(all) => set(part, all)}
          placeholder={part === 'any' ? 'A person, a topic, everyone …' : ''}
        />
      )}
    </Field>
  )
  const others = targetRows.filter(({ part }) => part !== 'any')
  return (
    <div className="grid gap-2">
      {row('any', 'To', 'Found as you type; or user:NAME, topic:NAME, device:ID, a pasted list')}
      <div className="flex flex-wrap items-start justify-between gap-x-4">
        <More title="Only some of them" open={more} onOpenChange={setMore}>
          <div className="grid gap-4">
            {others.map(({ part, title, hint }) => row(part, title, hint))}
            <fieldset className="flex flex-wrap items-center gap-x-5 gap-y-2">
              <legend className="mb-1 font-semibold">On these platforms</legend>
              {platformNames.map((platform) => (
                <Checkbox
                  key={platform}
                  checked={target.platforms?.includes(platform) ?? false}
                  onChange={(on) =>
                    set(
                      'platforms',
                      platformNames.filter((one) =>
                        one === platform ? on : (target.platforms?.includes(one) ?? false),
                      ),
                    )
                  }
                >
                  {platform}
                </Checkbox>
              ))}
              <span className="text-sm text-soft">none ticked: all of them</span>
            </fieldset>
          </div>
        </More>
        <button
          type="button"
          className="cursor-pointer py-1 text-sm text-soft underline decoration-1 underline-offset-4"
          onClick={() => setAsText(true)}
        >
          As text
        </button>
      </div>
    </div>
  )
}

function TargetText({ target, onChange, faults = {}, onRows }: Props & { readonly onRows: () => void }) {
  const [text, setText] = useState(() => textOfTarget(target))
  return (
    <div>
      <Field
        label="To, as text"
        hint="A line each: any: user:ada topic:route-4, all: …, none: …, platforms: ios"
        fault={faults.any ?? faults.all ?? faults.none}
      >
        {(control) => (
          <textarea
            {...control}
            rows={4}
            className="font-mono"
            value={text}
            onChange={(event) => {
              setText(event.target.value)
              onChange(targetOfText(event.target.value))
            }}
          />
        )}
      </Field>
      <button
        type="button"
        className="cursor-pointer py-1 text-sm text-soft underline decoration-1 underline-offset-4"
        onClick={onRows}
      >
        As rows
      </button>
    </div>
  )
}
