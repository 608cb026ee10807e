import { appChange } from '@zbell/contract/forms'
import { api } from '../app/api.ts'
import { usePlace } from '../app/place.ts'
import { useIsOwner, useSession } from '../app/session.ts'
import { ActionLink } from '../parts/button.tsx'
import { Form, TextInput, useRequestForm } from '../parts/form.tsx'
import { Page } from '../parts/page.tsx'
import { Keys } from './keys.tsx'
import { Settings } from './settings.tsx'

const fields = [
  ['ios', 'On iOS', 'Its bundle identifier, such as example.ferries'],
  ['android', 'On Android', 'Its package name, such as example.ferries'],
  ['web', 'On the web', 'Where its pages come from, such as https://ferries.example'],
] as const

export function AppPage() {
  const place = usePlace()
  const isOwner = useIsOwner()
  return (
    <Page
      title={place.app.name}
      asks="Name, settings and keys of this app"
      action={isOwner && <ActionLink to="/app/new">Make another app</ActionLink>}
    >
      <div className="grid gap-x-14 gap-y-12 lg:grid-cols-[20rem_minmax(0,1fr)]">
        <div className="grid content-start gap-12">
          <Names key={place.app.slug} />
          <Settings key={`${place.app.slug} settings`} />
        </div>
        {isOwner ? <Keys /> : <p className="text-soft">Keys are shown to owners of this console.</p>}
      </div>
    </Page>
  )
}

function Names() {
  const { app } = usePlace()
  const { refresh } = useSession()
  const isOwner = useIsOwner()
  const { ios, android, web } = app.identifiers
  const filled = useRequestForm({
    schema: appChange,
    first: { name: app.name, identifiers: { ios: ios ?? '', android: android ?? '', web: web ?? '' } },
    requestOf: ({ name, identifiers: given }) => ({
      name: name.trim(),
      identifiers: {
        ios: given.ios.trim() || null,
        android: given.android.trim() || null,
        web: given.web.trim() || null,
      },
    }),
  })
  return (
    <Form
      of={filled}
      submit="Save"
      readOnly={!isOwner}
      className="content-start"
      onSubmit={async (body) => {
        await api.call('changeApp', { params: { app: app.slug }, body })
        await refresh()
      }}
    >
      <h2>Name and identifiers</h2>
      <TextInput
        of={filled}
        name="name"
        label="Name"
        hint={`People read it; in addresses it stays ${app.slug}`}
        disabled={!isOwner}
      />
      {fields.map(([platform, label, hint]) => (
        <TextInput
          key={platform}
          of={filled}
          name={`identifiers.${platform}`}
          label={label}
          hint={hint}
          code
          disabled={!isOwner}
        />
      ))}
    </Form>
  )
}
