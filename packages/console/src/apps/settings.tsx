import { useMutation, useQueryClient } from '@tanstack/react-query'
import type { AppSettings } from '@zbell/contract'
import { appSettingsChange } from '@zbell/contract/forms'
import { keys } from '../app/live.ts'
import { usePlace } from '../app/place.ts'
import { useIsOwner } from '../app/session.ts'
import { useSettings } from '../app/use-settings.ts'
import { Button } from '../parts/button.tsx'
import { Confirm } from '../parts/dialog.tsx'
import { CheckInput, Form, TextInput, useRequestForm } from '../parts/form.tsx'
import { Failure, Loaded } from '../parts/page.tsx'
import { ShownOnce } from '../parts/shown-once.tsx'

/** What the app asks of its devices, and of whoever sends to many. */
export function Settings() {
  const place = usePlace()
  const { data, error } = useSettings()
  return (
    <section aria-labelledby="settings">
      <h2 id="settings">Settings of {place.environment}</h2>
      <Loaded of={{ data, error }}>{(data) => <Asks first={data} key={place.environment} />}</Loaded>
    </section>
  )
}

function Asks({ first }: { readonly first: AppSettings }) {
  const place = usePlace()
  const client = useQueryClient()
  const isOwner = useIsOwner()
  const filled = useRequestForm({
    schema: appSettingsChange,
    first: { askFrom: String(first.askFrom), requireProof: first.requireProof, openTopics: first.openTopics },
    requestOf: ({ askFrom, ...rest }) => ({
      ...rest,
      askFrom: Number(askFrom.replaceAll(/[\s,.]/g, '') || Number.NaN),
    }),
  })
  const save = async (body: ReturnType<typeof filled.requestOf>) => {
    client.setQueryData(keys.settings(place), await place.call('changeSettings', { body }))
  }
  return (
    <>
      <Form of={filled} submit="Save the settings" readOnly={!isOwner} className="mt-5" onSubmit={save}>
        <TextInput
          of={filled}
          name="askFrom"
          label="Confirm from so many devices on"
          hint="From so many devices on, the sender types the number"
          numeric
          className="w-40"
          disabled={!isOwner}
        />
        <CheckInput
          of={filled}
          name="requireProof"
          label="Require a proof of who somebody is"
          hint="A device that names a user shows a token that your backend signed"
          disabled={!isOwner}
        />
        {filled.form.watch('requireProof') && !first.proofKey && (
          <p className="text-sm">
            <span className="text-amber">△ </span>There is no key to sign proofs with yet: until one is made, no device
            can name a user.
          </p>
        )}
        <CheckInput
          of={filled}
          name="openTopics"
          label="Let devices join any topic"
          hint="Also one that nobody declared"
          disabled={!isOwner}
        />
      </Form>
      {isOwner && (
        <div className="mt-5">
          <ProofKey isThere={first.proofKey} />
        </div>
      )}
    </>
  )
}

/** Made anew it is shown once; the one before ends, which is asked about first. */
function ProofKey({ isThere }: { readonly isThere: boolean }) {
  const place = usePlace()
  const client = useQueryClient()
  const make = useMutation({
    mutationFn: () => place.call('makeProofKey'),
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
        <div className="mt-2">
          <ShownOnce secret={make.data.key} for="Your backend signs proofs with it." />
        </div>
      )}
      {make.error && <Failure error={make.error} />}
    </div>
  )
}
