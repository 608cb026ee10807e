import { lazy, Suspense, useRef } from 'react'
import type { FieldControl } from './field.tsx'
import type { Schema } from './profile-language.ts'

/** A name that can be written in the text. */
export type KnownName = { readonly name: string; readonly note: string }

/** From 1; a column is a code point. */
export type TextPlace = { readonly line: number; readonly column: number }

/** What is wrong in the text, and where. */
export type TextFault = TextPlace & { readonly says: string }

export type CodeTextProps = FieldControl & {
  /** What it is called, for who cannot see the label above it. */
  readonly label: string
  readonly value: string
  readonly onChange: (value: string) => void
  /** MessageFormat, a rule in CEL, or a gateway profile in YAML. */
  readonly language: 'message' | 'rule' | 'profile'
  /** In a message offered after `{`, in a rule after `user.` */
  readonly names: readonly KnownName[]
  /** What may stand where in a profile. */
  readonly schema?: Schema | undefined
  readonly faults?: readonly TextFault[] | undefined
  /** One line only: Enter is left to the form. */
  readonly single?: boolean
  /** BCP 47, of the text itself. */
  readonly lang?: string | undefined
}

/** Where somebody was typing when the editor came. */
export type Selected = { readonly from: number; readonly to: number }

const Editor = lazy(() => import('./code-text-editor.tsx'))

/**
 * A text that is a language: its parts have colours, its names are found as one types, and what is wrong is marked in its
 * place. What is only text goes into an input.
 */
export function CodeText(props: CodeTextProps) {
  const { label: _label, names: _names, faults: _faults, schema: _schema, language, single, onChange, ...rest } = props
  const selected = useRef<Selected>(undefined)
  // Whoever has begun to type before the editor is there goes on where they are.
  const watch = (area: HTMLTextAreaElement) => () => {
    selected.current =
      document.activeElement === area ? { from: area.selectionStart, to: area.selectionEnd } : undefined
  }
  return (
    <Suspense
      fallback={
        <textarea
          {...rest}
          ref={watch}
          dir="auto"
          rows={single ? 1 : language === 'profile' ? 24 : 3}
          onChange={(event) => onChange(event.target.value)}
        />
      }
    >
      <Editor {...props} selected={selected} />
    </Suspense>
  )
}
