import { Tabs } from 'radix-ui'
import { useState } from 'react'
import { Field } from '../parts/field.tsx'
import { type Draft, noTexts, type Texts } from './draft.ts'

type Props = {
  readonly draft: Draft
  readonly set: (part: Partial<Draft>) => void
  readonly faults: { readonly [field: string]: string }
  readonly warnings: { readonly [field: string]: readonly string[] }
  readonly language: string
  readonly onLanguage: (language: string) => void
}

const tab =
  'cursor-pointer rounded-t-md border-b-2 border-transparent px-3 py-1 data-[state=active]:border-brass data-[state=active]:font-semibold'

/** The words, in as many languages as there are tabs. */
export function Words({ draft, set, faults, warnings, language, onLanguage }: Props) {
  const [adding, setAdding] = useState('')
  const languages = Object.keys(draft.texts)
  const current = languages.includes(language) ? language : ''
  const change = (part: Partial<Texts>) =>
    set({ texts: { ...draft.texts, [current]: { ...noTexts, ...draft.texts[current], ...part } } })
  const add = () => {
    const tag = adding.trim()
    if (!/^[A-Za-z]{2,8}(-[A-Za-z0-9]{1,8})*$/.test(tag) || languages.includes(tag)) return
    set({ texts: { ...draft.texts, [tag]: noTexts } })
    onLanguage(tag)
    setAdding('')
  }
  const remove = () => {
    const { [current]: _, ...rest } = draft.texts
    set({ texts: rest })
    onLanguage('')
  }
  const texts = draft.texts[current] ?? noTexts
  const fault = (name: string) => faults[current === '' ? name : `${name} ${current}`]
  return (
    <Tabs.Root value={current} onValueChange={onLanguage}>
      <div className="flex flex-wrap items-end justify-between gap-x-4 gap-y-2 border-b border-line">
        <Tabs.List aria-label="Languages" className="flex flex-wrap">
          {languages.map((one) => (
            <Tabs.Trigger key={one} value={one} className={tab}>
              {one === '' ? 'For everybody' : one}
            </Tabs.Trigger>
          ))}
        </Tabs.List>
        <span className="mb-1 flex gap-2 text-sm">
          <input
            aria-label="Add a language"
            placeholder="nb, ar, ja …"
            className="w-28 py-0.5! text-sm"
            value={adding}
            onChange={(e) => setAdding(e.target.value)}
            onKeyDown={(e) => {
              if (e.key !== 'Enter') return
              e.preventDefault()
              add()
            }}
          />
          <button type="button" className="cursor-pointer underline underline-offset-4" onClick={add}>
            Add language
          </button>
        </span>
      </div>
      <Tabs.Content value={current} className="mt-4 grid gap-4" lang={current || undefined}>
        <Field
          label="Title"
          hint={`${texts.title.length} of 200 characters; {pier} stands for a value`}
          fault={fault('title')}
          warnings={warnings.title}
        >
          {(props) => (
            <input {...props} dir="auto" value={texts.title} onChange={(e) => change({ title: e.target.value })} />
          )}
        </Field>
        <Field
          label="Subtitle"
          hint="A line of its own; leave it empty for none"
          fault={fault('subtitle')}
          warnings={warnings.subtitle}
        >
          {(props) => (
            <input
              {...props}
              dir="auto"
              value={texts.subtitle}
              onChange={(e) => change({ subtitle: e.target.value })}
            />
          )}
        </Field>
        <Field
          label="Body"
          hint="What the person should know without opening the app"
          fault={fault('body')}
          warnings={warnings.body}
        >
          {(props) => (
            <textarea
              {...props}
              dir="auto"
              rows={3}
              value={texts.body}
              onChange={(e) => change({ body: e.target.value })}
            />
          )}
        </Field>
        {current !== '' && (
          <button
            type="button"
            className="justify-self-start cursor-pointer text-sm underline underline-offset-4"
            onClick={remove}
          >
            Remove {current}
          </button>
        )}
      </Tabs.Content>
    </Tabs.Root>
  )
}
