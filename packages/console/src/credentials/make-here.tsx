import { useMutation, useQueryClient } from '@tanstack/react-query'
import { type FormEvent, useState } from 'react'
import { api } from '../app/api.ts'
import { keys } from '../app/live.ts'
import { usePlace } from '../app/place.ts'
import { Button } from '../parts/button.tsx'
import { Field } from '../parts/field.tsx'
import { Failure } from '../parts/page.tsx'

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
  const [subject, setSubject] = useState('')
  const make = useMutation({
    mutationFn: () =>
      api.call('makeCredential', {
        params: { app: place.app.slug },
        query: { environment: place.environment },
        body: { platform: 'web', subject },
      }),
    onSuccess: () => client.invalidateQueries({ queryKey: keys.credentials(place) }),
  })
  const submit = (event: FormEvent) => {
    event.preventDefault()
    make.mutate()
  }
  return (
    <form onSubmit={submit} noValidate className="grid gap-3">
      <h2>A web key pair, made here</h2>
      <Field label="Contact" hint="How push services reach you: mailto:… or https:…">
        {(props) => (
          <input
            {...props}
            value={subject}
            onChange={(event) => setSubject(event.target.value)}
            placeholder="mailto:bell@example.org"
          />
        )}
      </Field>
      {make.error && <Failure error={make.error} />}
      <div>
        <Button type="submit" disabled={make.isPending}>
          Make a key pair
        </Button>
      </div>
    </form>
  )
}

function CertificateRequest() {
  const place = usePlace()
  const client = useQueryClient()
  const [commonName, setCommonName] = useState('')
  const ask = useMutation({
    mutationFn: () =>
      api.call('requestCertificate', {
        params: { app: place.app.slug },
        query: { environment: place.environment },
        body: { platform: 'ios', commonName },
      }),
    onSuccess: () => client.invalidateQueries({ queryKey: keys.credentials(place) }),
  })
  const submit = (event: FormEvent) => {
    event.preventDefault()
    ask.mutate()
  }
  return (
    <form onSubmit={submit} noValidate className="grid gap-3">
      <h2>A certificate, requested here</h2>
      <p className="text-sm text-soft">
        The key is made and kept here. Upload the request at the platform, and hand in the certificate that comes back:
        it finds its key.
      </p>
      <Field label="For" hint="What the certificate shall be for">
        {(props) => (
          <input
            {...props}
            value={commonName}
            onChange={(event) => setCommonName(event.target.value)}
            placeholder={place.app.name}
          />
        )}
      </Field>
      {ask.error && <Failure error={ask.error} />}
      {ask.data && (
        <Field label="The request" hint="Copy all of it">
          {(props) => <textarea {...props} readOnly rows={6} className="font-mono text-xs" value={ask.data.request} />}
        </Field>
      )}
      <div>
        <Button type="submit" disabled={ask.isPending}>
          Make a request
        </Button>
      </div>
    </form>
  )
}
