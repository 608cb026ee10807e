import { useState } from 'react'
import { Button } from '../parts/button.tsx'
import { CodeText, type KnownName, type TextFault } from '../parts/code-text.tsx'
import { Field } from '../parts/field.tsx'
import { Tabs } from '../parts/tabs.tsx'
import { type Draft, noTexts, type Texts } from './draft.ts'

type Props = {
  readonly draft: Draft
  readonly set: (part: Partial<Draft>) => void
  readonly faults: { readonly [field: string]: string }
  readonly places: { readonly [field: string]: readonly TextFault[] }
  readonly warnings: { readonly [field: string]: readonly string[] }
  readonly language: string
  readonly onLanguage: (language: string) => void
  /** What can be filled in: attributes, and values that were given. */
  readonly names: readonly KnownName[]
}

/** The words, in as many languages as there are tabs. */
export function Words({ draft, set, faults, places, warnings, language, onLanguage, names }: Props) {
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
  const own = (name: string) => (current === '' ? name : `${name} ${current}`)
  const text = (name: keyof Texts, label: string, hint: string, single: boolean) => (
    <Field label={label} hint={hint} fault={faults[own(name)]} warnings={warnings[name]}>
      {(control) => (
        <CodeText
          {...control}
          label={label}
          language="message"
          lang={current || undefined}
          value={texts[name]}
          onChange={(value) => change({ [name]: value })}
          names={names}
          single={single}
          faults={places[own(name)]}
        />
      )}
    </Field>
  )
  return (
    <Tabs
      label="Languages"
      value={current}
      onChange={onLanguage}
      tabs={languages.map((one) => ({
        value: one,
        label: one === '' ? 'For everybody' : one,
        ...(one === '' ? {} : { lang: one }),
      }))}
      more={
        <span className="mb-1 flex items-center gap-2 text-sm">
          <input
            aria-label="Add a language"
            placeholder="nb, ar, ja …"
            className="w-28! py-0.5! text-sm"
            value={adding}
            onChange={(e) => setAdding(e.target.value)}
            onKeyDown={(e) => {
              if (e.key !== 'Enter') return
              e.preventDefault()
              add()
            }}
          />
          <Button rank="quiet" onClick={add}>
            Add language
          </Button>
        </span>
      }
    >
      <div className="grid gap-4" key={current}>
        {text('title', 'Title', `${texts.title.length} of 200 characters; { offers the values`, true)}
        {text('subtitle', 'Subtitle', 'A line of its own; leave it empty for none', true)}
        {text('body', 'Body', 'What the person should know without opening the app', false)}
        {current !== '' && (
          <Button rank="quiet" className="justify-self-start text-sm" onClick={remove}>
            Remove {current}
          </Button>
        )}
      </div>
    </Tabs>
  )
}
