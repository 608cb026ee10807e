import { useMutation, useQueryClient } from '@tanstack/react-query'
import type { AppSettings } from '@zbell/contract'
import { type FormEvent, useState } from 'react'
import { api } from '../app/api.ts'
import { faultsOf } from '../app/failures.ts'
import { keys } from '../app/live.ts'
import { usePlace } from '../app/place.ts'
import { useIsOwner } from '../app/session.ts'
import { useSettings } from '../app/use-settings.ts'
import { Button } from '../parts/button.tsx'
import { Confirm } from '../parts/dialog.tsx'
import { Field } from '../parts/field.tsx'
import { Failure, Saved, Waiting } from '../parts/page.tsx'
import { Checkbox } from '../parts/toggles.tsx'

/** What the app asks of its devices, and of whoever sends to many. */
export function Settings() {
  const place = usePlace()
  const { data, error } = useSettings()
  return (
    <section aria-labelledby="settings">
      <h2 id="settings">What it asks in {place.environment}</h2>
      {error ? <Failure error={error} /> : data ? <Form first={data} key={place.environment} /> : <Waiting />}
    </section>
  )
}

function Form({ first }: { readonly first: AppSettings }) {
  const place = usePlace()
  const client = useQueryClient()
  const isOwner = useIsOwner()
  const [askFrom, setAskFrom] = useState(String(first.askFrom))
  const [requireProof, setRequireProof] = useState(first.requireProof)
  const [openTopics, setOpenTopics] = useState(first.openTopics)
  const given = { params: { app: place.app.slug }, query: { environment: place.environment } }
  const save = useMutation({
    mutationFn: () =>
      api.call('changeSettings', {
        ...given,
        body: { askFrom: Number(askFrom.replaceAll(/[\s,.]/g, '')) || 0, requireProof, openTopics },
      }),
    onSuccess: (settings) => client.setQueryData(keys.settings(place), settings),
  })
  const submit = (event: FormEvent) => {
    event.preventDefault()
    save.mutate()
  }
  const faults = faultsOf(save.error)
  return (
    <form onSubmit={submit} noValidate className="mt-5 grid gap-5">
      <Field
        label="Ask from so many devices on"
        hint="Who sends to as many or more types their number"
        fault={faults['/askFrom']}
      >
        {(props) => (
          <input
            {...props}
            inputMode="numeric"
            className="w-40"
            value={askFrom}
            disabled={!isOwner}
            onChange={(e) => setAskFrom(e.target.value)}
          />
        )}
      </Field>
      <Choice
        label="Want a proof of who somebody is"
        hint="A device that names a user shows a token that your backend signed"
        checked={requireProof}
        onChange={setRequireProof}
      />
      {requireProof && !first.proofKey && (
        <p className="text-sm">
          <span className="text-amber">△ </span>There is no key to sign proofs with yet: until one is made, no device
          can name a user.
        </p>
      )}
      <Choice
        label="Let devices join any topic"
        hint="Also one that nobody declared"
        checked={openTopics}
        onChange={setOpenTopics}
      />
      {save.error && Object.keys(faults).length === 0 && <Failure error={save.error} />}
      {isOwner && (
        <div className="flex flex-wrap items-center gap-4">
          <Button type="submit" disabled={save.isPending}>
            Save what it asks
          </Button>
          <Saved when={save.isSuccess} />
        </div>
      )}
      {isOwner && <ProofKey isThere={first.proofKey} />}
    </form>
  )
}

/** Made anew it is shown once; the one before ends, which is asked about first. */
function ProofKey({ isThere }: { readonly isThere: boolean }) {
  const place = usePlace()
  const client = useQueryClient()
  const make = useMutation({
    mutationFn: () =>
      api.call('makeProofKey', { params: { app: place.app.slug }, query: { environment: place.environment } }),
    onSuccess: () => client.invalidateQueries({ queryKey: keys.settings(place) }),
  })
  return (
    <div>
      {isThere ? (
        <Confirm
          title="Make another key for proofs?"
          yes="Make it now"
          onYes={() => make.mutate()}
          trigger={<Button busy={make.isPending}>Make another key for proofs</Button>}
        >
          The key before ends at once: no proof that was signed with it counts any more.
        </Confirm>
      ) : (
        <Button busy={make.isPending} onClick={() => make.mutate()}>
          Make a key for proofs
        </Button>
      )}
      {make.data && (
        <div role="status" className="mt-2">
          <p>Copy it now; it is shown this once. Your backend signs proofs with it.</p>
          <code className="mt-1 block rounded-md bg-sunken px-3 py-2 font-mono text-sm break-all">{make.data.key}</code>
        </div>
      )}
      {make.error && <Failure error={make.error} />}
    </div>
  )
}

function Choice({
  label,
  hint,
  checked,
  onChange,
}: {
  readonly label: string
  readonly hint: string
  readonly checked: boolean
  readonly onChange: (checked: boolean) => void
}) {
  const isOwner = useIsOwner()
  return (
    <div>
      <Checkbox checked={checked} disabled={!isOwner} onChange={onChange}>
        <span className="font-semibold">{label}</span>
      </Checkbox>
      <p className="ms-7.5 text-sm text-soft">{hint}</p>
    </div>
  )
}
