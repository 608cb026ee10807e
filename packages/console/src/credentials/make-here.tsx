import { useQueryClient } from '@tanstack/react-query'
import { certificateRequest, credentialMaking } from '@zbell/contract/forms'
import { useState } from 'react'
import { keys } from '../app/live.ts'
import { usePlace } from '../app/place.ts'
import { Field } from '../parts/field.tsx'
import { Form, TextInput, useRequestForm } from '../parts/form.tsx'

/** What needs no download: a web key pair, and the request for a certificate whose key never leaves. */
export function MakeHere() {
  return (
    <aside aria-label="Made here" className="grid content-start gap-10">
      <WebKey />
      <CertificateRequest />
    </aside>
  )
}

function WebKey() {
  const place = usePlace()
  const client = useQueryClient()
  const filled = useRequestForm({
    schema: credentialMaking,
    first: { subject: '' },
    requestOf: ({ subject }) => ({ platform: 'web' as const, subject: subject.trim() }),
  })
  return (
    <Form
      of={filled}
      submit="Make a key pair"
      clears
      onSubmit={async (body) => {
        await place.call('makeCredential', { body })
        await client.invalidateQueries({ queryKey: keys.credentials(place) })
      }}
    >
      <h2>Generate a web push key pair</h2>
      <TextInput
        of={filled}
        name="subject"
        label="Contact"
        hint="How push services reach you: mailto:… or https:…"
        placeholder="mailto:bell@example.org"
      />
    </Form>
  )
}

function CertificateRequest() {
  const place = usePlace()
  const client = useQueryClient()
  const [request, setRequest] = useState<string>()
  const filled = useRequestForm({
    schema: certificateRequest,
    first: { commonName: '' },
    requestOf: ({ commonName }) => ({ platform: 'ios' as const, commonName: commonName.trim() }),
  })
  return (
    <Form
      of={filled}
      submit="Make a request"
      clears
      onSubmit={async (body) => {
        setRequest((await place.call('requestCertificate', { body })).request)
        await client.invalidateQueries({ queryKey: keys.credentials(place) })
      }}
      result={
        request && (
          <Field label="The request" hint="Copy all of it">
            {(props) => <textarea {...props} readOnly rows={6} className="font-mono text-xs" value={request} />}
          </Field>
        )
      }
    >
      <h2>A certificate, requested here</h2>
      <p className="text-sm text-soft">
        The key is made and kept here. Upload the request at the platform, and add the certificate that comes back: it
        finds its key.
      </p>
      <TextInput
        of={filled}
        name="commonName"
        label="For"
        hint="What the certificate shall be for"
        placeholder={place.app.name}
      />
    </Form>
  )
}
