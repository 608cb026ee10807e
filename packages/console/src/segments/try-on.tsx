import { useMutation } from '@tanstack/react-query'
import { type FormEvent, useState } from 'react'
import { usePlace } from '../app/place.ts'
import { Button } from '../parts/button.tsx'
import { Field } from '../parts/field.tsx'
import { Failure } from '../parts/page.tsx'
import { Clauses } from './clauses.tsx'

/** Says for one person whether a rule has them, and clause by clause why. */
export function TryOn({ rule }: { readonly rule: string }) {
  const place = usePlace()
  const [user, setUser] = useState('')
  const ask = useMutation({
    mutationFn: () => place.call('explainRule', { body: { rule, user: user.trim() } }),
  })
  const submit = (event: FormEvent) => {
    event.preventDefault()
    if (user.trim() !== '') ask.mutate()
  }
  const { belongs, parts, device } = ask.data ?? { belongs: null, parts: [], device: null }
  return (
    <section aria-labelledby="try-on" className="grid gap-4">
      <h2 id="try-on">Try it on somebody</h2>
      <form onSubmit={submit} className="flex flex-wrap items-end gap-3">
        <Field label="Who" hint="A person’s name">
          {(control) => (
            <input
              {...control}
              className="font-mono"
              value={user}
              placeholder="ada"
              onChange={(event) => setUser(event.target.value)}
            />
          )}
        </Field>
        <Button
          type="submit"
          className="mb-6.5"
          busy={ask.isPending}
          disabled={user.trim() === '' || rule.trim() === ''}
        >
          Explain
        </Button>
      </form>
      {ask.error && <Failure error={ask.error} />}
      {ask.data && !ask.error && (
        <div className="grid gap-3">
          <p className="text-lg font-semibold" aria-live="polite">
            {device === null
              ? `${user.trim()} has no device that could be rung.`
              : belongs === true
                ? `${user.trim()} belongs.`
                : belongs === false
                  ? `${user.trim()} does not belong.`
                  : `${user.trim()} does not belong: what decides is not known.`}
          </p>
          {parts.length > 0 && <Clauses label="Clause by clause" parts={parts} />}
        </div>
      )}
    </section>
  )
}
