import { autocompletion, type CompletionContext, completionKeymap } from '@codemirror/autocomplete'
import { defaultKeymap, history, historyKeymap } from '@codemirror/commands'
import { HighlightStyle, syntaxHighlighting } from '@codemirror/language'
import { setDiagnostics } from '@codemirror/lint'
import { Annotation, Compartment, EditorState, type Extension, type Text } from '@codemirror/state'
import { EditorView, keymap } from '@codemirror/view'
import { tags } from '@lezer/highlight'
import { type RefObject, useEffect, useRef } from 'react'
import type { CodeTextProps, KnownName, Selected, TextPlace } from './code-text.tsx'
import { messageLanguage } from './message-language.ts'
import { nonce } from './nonce.ts'
import { completeProfile, profileLanguage } from './profile-language.ts'
import { deviceNames, ruleFunctions, ruleLanguage } from './rule-language.ts'

/** It came from outside, and is not to be told there again. */
const fromOutside = Annotation.define<boolean>()

const look = EditorView.theme({
  '&': {
    background: 'var(--surface)',
    border: '1px solid var(--edge)',
    borderRadius: 'var(--radius-control)',
    color: 'var(--ink)',
  },
  '&.cm-focused': { outline: '2px solid var(--brass)', outlineOffset: '2px' },
  '.cm-scroller': { fontFamily: 'var(--font-sans)', lineHeight: '1.6' },
  '.cm-content': { padding: '0.375rem 0', caretColor: 'var(--ink)' },
  '.cm-line': { padding: '0 var(--control-pad)' },
  '.cm-tooltip': {
    background: 'var(--raised)',
    border: '1px solid var(--line)',
    borderRadius: 'var(--radius-float)',
    boxShadow: 'var(--shadow-float)',
    overflow: 'hidden',
  },
  '.cm-tooltip.cm-tooltip-autocomplete > ul': { fontFamily: 'var(--font-sans)', maxHeight: '14rem' },
  '.cm-tooltip.cm-tooltip-autocomplete > ul > li': { padding: '0.25rem 0.75rem' },
  '.cm-tooltip-autocomplete ul li[aria-selected]': { background: 'var(--sunken)', color: 'var(--ink)' },
  '.cm-completionDetail': { color: 'var(--soft)', fontStyle: 'normal', marginInlineStart: '0.75rem' },
  '.cm-diagnostic-error': { borderInlineStart: '4px solid var(--red)' },
})

const colours = HighlightStyle.define([
  { tag: tags.variableName, color: 'var(--brass)', fontWeight: '600' },
  { tag: tags.keyword, color: 'var(--sea)' },
  { tag: tags.bracket, color: 'var(--soft)' },
  { tag: tags.punctuation, color: 'var(--soft)' },
  { tag: [tags.string, tags.escape], color: 'var(--amber)' },
  { tag: tags.number, color: 'var(--sea)' },
  { tag: tags.definition(tags.propertyName), color: 'var(--brass)', fontWeight: '600' },
  { tag: tags.comment, color: 'var(--soft)' },
])

/**
 * Text that takes the place of coloured text: the browser would give it the colours as styles of its own, which the page's
 * policy refuses.
 */
const replacesBySelf = EditorView.domEventHandlers({
  beforeinput(event, view) {
    if (event.inputType !== 'insertText' || event.data === null || view.state.selection.main.empty) return false
    event.preventDefault()
    view.dispatch(view.state.replaceSelection(event.data), { userEvent: 'input.type', scrollIntoView: true })
    return true
  },
})

/** In a rule: attributes after `user.`, facts after `device.`, functions where a word begins. */
function completeRule(names: () => readonly KnownName[]) {
  return (context: CompletionContext) => {
    const member = context.matchBefore(/\b(?:user|device)\.\w*$/)
    if (member) {
      const options = member.text.startsWith('user')
        ? names().map(({ name, note }) => ({ label: name, detail: note, type: 'variable' }))
        : deviceNames.map((name) => ({ label: name, type: 'variable' }))
      return { from: member.from + member.text.indexOf('.') + 1, options, validFor: /^\w*$/ }
    }
    const word = context.matchBefore(/[A-Za-z]\w*$/)
    if (!word && !context.explicit) return null
    const before = context.state.sliceDoc(0, word?.from ?? context.pos)
    // Within a text nothing is offered.
    if ((before.match(/"/g)?.length ?? 0) % 2 === 1) return null
    return {
      from: word?.from ?? context.pos,
      options: [{ label: 'user', apply: 'user.' }, { label: 'device', apply: 'device.' }, ...ruleFunctions],
      validFor: /^\w*$/,
    }
  }
}

/** Names after an opening brace; after a comma, the types that a value can have in a text. */
function complete(names: () => readonly KnownName[]) {
  return (context: CompletionContext) => {
    const argument = context.matchBefore(/\{\s*[\w-]*$/)
    if (argument) {
      const start = argument.text.search(/[\w-]*$/)
      return {
        from: argument.from + start,
        options: names().map(({ name, note }) => ({ label: name, detail: note, type: 'variable' })),
        validFor: /^[\w-]*$/,
      }
    }
    const type = context.matchBefore(/\{\s*[\w-]+\s*,\s*[a-z]*$/)
    if (!type) return null
    return {
      from: type.from + type.text.search(/[a-z]*$/),
      options: [
        { label: 'number', detail: '1,204' },
        { label: 'date', detail: '27 Nov 2026, in the reader’s zone' },
        { label: 'time', detail: '17:45, in the reader’s zone' },
        { label: 'plural', apply: 'plural, one {# ferry} other {# ferries}', detail: 'one, few, many …' },
        { label: 'select', apply: 'select, season {…} other {…}', detail: 'by a text' },
      ],
      validFor: /^[a-z]*$/,
    }
  }
}

/** What is written in a language of machines has letters of one width; a whole file scrolls in itself. */
const mono = EditorView.theme({ '.cm-scroller': { fontFamily: 'var(--font-mono)' } })
const file = EditorView.theme({ '.cm-scroller': { fontSize: '0.875rem', maxHeight: '34rem', overflow: 'auto' } })

const looks = { message: [], rule: [mono], profile: [file, mono] } as const

const languages = { message: messageLanguage, rule: ruleLanguage, profile: profileLanguage } as const

type Offered = () => Pick<CodeTextProps, 'names' | 'schema'>
const completions = {
  message: (offered: Offered) => complete(() => offered().names),
  rule: (offered: Offered) => completeRule(() => offered().names),
  profile: (offered: Offered) => completeProfile(() => offered().schema),
} as const

/** What is marked for a fault: the word that begins there, or the character. */
function spanAt(text: Text, { line, column }: TextPlace): { readonly from: number; readonly to: number } {
  const { from, text: whole } = text.line(Math.min(line, text.lines))
  const before = [...whole].slice(0, column - 1).join('').length
  const word = /^[\w-]+|^./su.exec(whole.slice(before))?.[0] ?? ''
  // What is missing at the end of a line is marked on its last character.
  const start = word === '' ? Math.max(before - 1, 0) : before
  return { from: from + start, to: from + Math.max(before + word.length, start) }
}

/** The editor of a {@link CodeText}, which comes when one is seen. */
export default function CodeTextEditor(props: CodeTextProps & { readonly selected: RefObject<Selected | undefined> }) {
  const { value, faults, single = false, lang, label, id } = props
  const home = useRef<HTMLDivElement>(null)
  const view = useRef<EditorView>(undefined)
  const latest = useRef(props)
  latest.current = props
  const attributes = useRef(new Compartment())
  const contentAttributes = (): Extension =>
    EditorView.contentAttributes.of({
      id,
      'aria-label': label,
      'aria-describedby': props['aria-describedby'],
      'aria-invalid': String(props['aria-invalid']),
      dir: props.language === 'message' ? 'auto' : 'ltr',
      // Said outright: what scrolls has to be reachable by keyboard, and not everybody knows that this is.
      tabindex: '0',
      spellcheck: props.language === 'message' ? 'true' : 'false',
      ...(lang ? { lang } : {}),
    })
  // biome-ignore lint/correctness/useExhaustiveDependencies: made once; what changes later is told to it below
  useEffect(() => {
    const editor = new EditorView({
      parent: home.current!,
      state: EditorState.create({
        doc: value,
        extensions: [
          EditorView.cspNonce.of(nonce),
          ...looks[props.language],
          look,
          languages[props.language],
          syntaxHighlighting(colours),
          history(),
          autocompletion({
            override: [completions[props.language](() => latest.current)],
            icons: false,
          }),
          keymap.of([...completionKeymap, ...historyKeymap, ...defaultKeymap]),
          EditorView.lineWrapping,
          replacesBySelf,
          ...(single ? [EditorState.transactionFilter.of((one) => (one.newDoc.lines > 1 ? [] : one))] : []),
          attributes.current.of(contentAttributes()),
          EditorView.updateListener.of((update) => {
            if (update.docChanged && !update.transactions.some((one) => one.annotation(fromOutside)))
              latest.current.onChange(update.state.doc.toString())
          }),
        ],
      }),
    })
    view.current = editor
    const { current: selected } = props.selected
    if (selected) {
      editor.dispatch({ selection: { anchor: selected.from, head: selected.to } })
      editor.focus()
    }
    return () => editor.destroy()
  }, [])
  useEffect(() => {
    const editor = view.current
    if (!editor || editor.state.doc.toString() === value) return
    editor.dispatch({
      changes: { from: 0, to: editor.state.doc.length, insert: value },
      annotations: fromOutside.of(true),
    })
  }, [value])
  useEffect(() => {
    view.current?.dispatch({ effects: attributes.current.reconfigure(contentAttributes()) })
  })
  useEffect(() => {
    const editor = view.current
    if (!editor) return
    const placed = (faults ?? []).map(({ says, ...place }) => ({
      ...spanAt(editor.state.doc, place),
      severity: 'error' as const,
      message: says,
    }))
    editor.dispatch(setDiagnostics(editor.state, placed))
  }, [faults])
  return <div ref={home} />
}
