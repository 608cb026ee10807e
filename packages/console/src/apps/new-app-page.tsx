import { appRequest } from '@zbell/contract/forms'
import { useEffect } from 'react'
import { useNavigate } from 'react-router'
import { api } from '../app/api.ts'
import { useIsOwner, useSession } from '../app/session.ts'
import { Form, TextInput, useRequestForm } from '../parts/form.tsx'
import { Page } from '../parts/page.tsx'

/** @param onMade the new app is the one to look at now */
export function NewAppPage({ onMade }: { readonly onMade: (slug: string) => void }) {
  const { session, refresh } = useSession()
  const go = useNavigate()
  const isOwner = useIsOwner()
  const filled = useRequestForm({
    schema: appRequest,
    first: { name: '', slug: '' },
    requestOf: ({ name, slug }) => ({ slug, name: name.trim() }),
  })
  const { form } = filled
  const name = form.watch('name')
  // It follows the name until somebody writes another one.
  useEffect(() => {
    if (!form.getFieldState('slug').isTouched) form.setValue('slug', slugOf(name))
  }, [form, name])
  return (
    <Page title={session.apps.length === 0 ? 'Your first app' : 'Another app'} asks="What shall ring?">
      <p className="max-w-2xl">
        An app is one product that sends notifications. It has its own devices, credentials and keys, and no other app
        ever meets them.
      </p>
      {isOwner ? (
        <Form
          of={filled}
          submit="Make it"
          rank="primary"
          className="mt-6 max-w-md"
          onSubmit={async (request) => {
            const app = await api.call('makeApp', { body: request })
            await refresh()
            onMade(app.slug)
          }}
          onDone={() => void go('/setup')}
        >
          <TextInput
            of={filled}
            name="name"
            label="Name"
            hint="What people call it"
            placeholder="Merrow Sound Ferries"
          />
          <TextInput
            of={filled}
            name="slug"
            label="Short name"
            hint="Stands in addresses and stays as it is"
            code
            placeholder="merrow-sound"
          />
        </Form>
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
