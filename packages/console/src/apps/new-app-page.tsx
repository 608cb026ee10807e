import { useMutation } from '@tanstack/react-query'
import { type FormEvent, useState } from 'react'
import { useNavigate } from 'react-router'
import { api } from '../app/api.ts'
import { faultsOf } from '../app/failures.ts'
import { useIsOwner, useSession } from '../app/session.ts'
import { Button } from '../parts/button.tsx'
import { Field } from '../parts/field.tsx'
import { Failure, Page } from '../parts/page.tsx'

/** @param onMade the new app is the one to look at now */
export function NewAppPage({ onMade }: { readonly onMade: (slug: string) => void }) {
  const { session, refresh } = useSession()
  const go = useNavigate()
  const isOwner = useIsOwner()
  const [name, setName] = useState('')
  const [slug, setSlug] = useState<string>()
  const shown = slug ?? slugOf(name)
  const make = useMutation({
    mutationFn: () => api.call('makeApp', { body: { slug: shown, name: name.trim() } }),
    onSuccess: async (app) => {
      await refresh()
      onMade(app.slug)
      await go('/setup')
    },
  })
  const submit = (event: FormEvent) => {
    event.preventDefault()
    make.mutate()
  }
  const faults = faultsOf(make.error)
  return (
    <Page title={session.apps.length === 0 ? 'Your first app' : 'Another app'} asks="What shall ring?">
      <p className="max-w-2xl">
        An app is one product that sends notifications. It has its own devices, credentials and keys, and no other app
        ever meets them.
      </p>
      {isOwner ? (
        <form onSubmit={submit} noValidate className="mt-6 grid max-w-md gap-5">
          <Field label="Name" hint="What people call it" fault={faults['/name']}>
            {(props) => (
              <input
                {...props}
                value={name}
                placeholder="Merrow Sound Ferries"
                onChange={(e) => setName(e.target.value)}
              />
            )}
          </Field>
          <Field label="Short name" hint="Stands in addresses and stays as it is" fault={faults['/slug']}>
            {(props) => (
              <input
                {...props}
                className="font-mono text-sm"
                value={shown}
                placeholder="merrow-sound"
                onChange={(e) => setSlug(e.target.value)}
              />
            )}
          </Field>
          {make.error && Object.keys(faults).length === 0 && <Failure error={make.error} />}
          <div>
            <Button rank="primary" type="submit" disabled={make.isPending || name.trim() === ''}>
              Make it
            </Button>
          </div>
        </form>
      ) : (
        <p className="mt-6">An owner of this console can make one.</p>
      )}
    </Page>
  )
}

/** A short name to begin with. */
const slugOf = (name: string): string =>
  name
    .normalize('NFKD')
    .toLowerCase()
    .replace(/[^a-z0-9]+/g, '-')
    .replace(/^[^a-z]+|-+$/g, '')
    .slice(0, 40)
