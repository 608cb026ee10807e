import { useMutation } from '@tanstack/react-query'
import { ProblemError } from '@zbell/contract/client'
import { type FormEvent, useState } from 'react'
import { parse, stringify } from 'yaml'
import { Button } from './button.tsx'
import { Fault, Field } from './field.tsx'
import { Failure } from './page.tsx'

type DefinitionFileProps = {
  readonly title: string
  readonly hint: string
  /** The member that says its name. */
  readonly member: string
  /** As it stands, or an example of one. */
  readonly initial: Readonly<Record<string, unknown>>
  readonly onSave: (name: string, definition: Record<string, unknown>) => Promise<unknown>
}

/** A definition as a file, as the command line takes it, to be changed and saved. */
export function DefinitionFile({ title, hint, member, initial, onSave }: DefinitionFileProps) {
  const [text, setText] = useState(() => stringify(initial))
  const { value, fault } = read(text, member)
  const save = useMutation({
    mutationFn: async () => {
      const { [member]: name, ...definition } = value ?? {}
      await onSave(String(name), definition)
    },
  })
  const submit = (submitted: FormEvent) => {
    submitted.preventDefault()
    if (value) save.mutate()
  }
  // What is said above them is the first.
  const places = save.error instanceof ProblemError ? (save.error.problem.errors ?? []) : []
  return (
    <form onSubmit={submit} className="grid max-w-3xl gap-3">
      <Field label={title} hint={hint} fault={fault}>
        {(control) => (
          <textarea
            {...control}
            rows={Math.min(28, Math.max(10, text.split('\n').length))}
            spellCheck={false}
            className="font-mono text-sm"
            value={text}
            onChange={({ target }) => setText(target.value)}
          />
        )}
      </Field>
      <div>
        <Button type="submit" busy={save.isPending} disabled={!value}>
          Save
        </Button>
      </div>
      {save.error && <Failure error={save.error} />}
      {places.slice(1).map(({ pointer, detail }) => (
        <Fault key={`${pointer} ${detail}`} says={`${pointer || 'The whole'}: ${detail}`} />
      ))}
      {save.isSuccess && (
        <p role="status" className="text-sea">
          Saved.
        </p>
      )}
    </form>
  )
}

function read(text: string, member: string): { value?: Record<string, unknown>; fault?: string } {
  let value: unknown
  try {
    value = parse(text)
  } catch (error) {
    return { fault: error instanceof Error ? (error.message.split('\n')[0] ?? 'cannot be read') : 'cannot be read' }
  }
  if (typeof value !== 'object' || value === null || Array.isArray(value)) return { fault: 'is not a definition' }
  const named = value as Record<string, unknown>
  if (typeof named[member] !== 'string') return { fault: `has no name: begin it with ${member}: NAME` }
  return { value: named }
}
