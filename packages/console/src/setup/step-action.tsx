import { useMutation, useQueryClient } from '@tanstack/react-query'
import { appChange } from '@zbell/contract/forms'
import { Link, useNavigate } from 'react-router'
import { api } from '../app/api.ts'
import { keys } from '../app/live.ts'
import { usePlace } from '../app/place.ts'
import { useIsOwner, useSession } from '../app/session.ts'
import { actionLook, Button } from '../parts/button.tsx'
import { Form, TextInput, useRequestForm } from '../parts/form.tsx'
import { Failure } from '../parts/page.tsx'
import type { PlatformSetup, Step } from './steps.ts'

type Props = { readonly step: Step; readonly platform: PlatformSetup; readonly isNext: boolean }

/** What a person can do about a step, right here. */
export function StepAction({ step, platform, isNext }: Props) {
  const look = `mt-2 ${actionLook(isNext ? 'primary' : 'secondary')}`
  const isOwner = useIsOwner()
  switch (step.action) {
    case null:
    case 'look-at-device':
      return null
    case 'give-identifier':
      return isOwner ? <Identifier platform={platform} isNext={isNext} /> : <OwnersOnly />
    case 'hand-in-credential':
      return (
        <Link to={`/credentials?platform=${platform.platform}`} className={look}>
          Add a credential
        </Link>
      )
    case 'save-profile':
      return (
        <Link to={`/gateways/${platform.platform}`} className={look}>
          Write the profile
        </Link>
      )
    case 'check-credential':
      return <Check platform={platform} look={look} />
    case 'make-app-key':
      return isOwner ? (
        <Link to="/app" className={look}>
          Make an app key
        </Link>
      ) : (
        <OwnersOnly />
      )
    case 'register-device':
      return (
        <p role="status" className="mt-1 text-sm text-soft">
          <span aria-hidden="true">◌ </span>This page watches, and says so when one arrives.
        </p>
      )
    case 'send':
      return <Ring device={platform.device} look={look} text="Ring it" />
    default:
      return step.action satisfies never
  }
}

function OwnersOnly() {
  return <p className="text-sm text-soft">An owner of this console can.</p>
}

/** After a change: what every page knows of the setup is read anew. */
function useAnew() {
  const client = useQueryClient()
  const place = usePlace()
  return () => client.invalidateQueries({ queryKey: keys.setup(place) })
}

const examples = { ios: 'example.ferries', android: 'example.ferries', web: 'https://ferries.example' } as const

function Identifier({ platform, isNext }: { readonly platform: PlatformSetup; readonly isNext: boolean }) {
  const place = usePlace()
  const { refresh } = useSession()
  const anew = useAnew()
  const filled = useRequestForm({
    schema: appChange,
    first: { given: '' },
    requestOf: ({ given }) => ({ identifiers: { [platform.platform]: given.trim() } }),
    fieldOf: () => 'given',
  })
  return (
    <Form
      of={filled}
      submit="Save"
      className="mt-2"
      rank={isNext ? 'primary' : 'secondary'}
      onSubmit={async (body) => {
        await api.call('changeApp', { params: { app: place.app.slug }, body })
        await Promise.all([refresh(), anew()])
      }}
    >
      <TextInput of={filled} name="given" label="Identifier" hint={`Such as ${examples[platform.platform]}`} code />
    </Form>
  )
}

function Check({ platform, look }: { readonly platform: PlatformSetup; readonly look: string }) {
  const place = usePlace()
  const anew = useAnew()
  const check = useMutation({
    mutationFn: (id: string) => place.call('checkCredential', { params: { id } }),
    onSettled: anew,
  })
  const { credential } = platform
  if (credential === null) return null
  return (
    <>
      <button type="button" className={look} disabled={check.isPending} onClick={() => check.mutate(credential)}>
        {check.isPending ? 'Asking …' : 'Ask the gateway'}
      </button>
      {check.error && <Failure error={check.error} />}
    </>
  )
}

type RingProps = { readonly device: string | null; readonly look: string; readonly text: string }

function Ring({ device, look, text }: RingProps) {
  const place = usePlace()
  const go = useNavigate()
  const ring = useMutation({
    mutationFn: (id: string) =>
      place.call('sendNotification', {
        body: {
          to: { any: [`device:${id}`] },
          content: { title: 'A first ring', body: `${place.app.name} can reach this device.` },
          urgency: 'high',
        },
      }),
    onSuccess: ({ id }) => go(`/activity/${id}`),
  })
  if (device === null) return null
  return (
    <>
      <button type="button" className={look} disabled={ring.isPending} onClick={() => ring.mutate(device)}>
        {text}
      </button>
      {ring.error && <Failure error={ring.error} />}
    </>
  )
}

/** Rings a virtual handset, long before there is a credential. */
export function Rehearse({ platform }: { readonly platform: PlatformSetup }) {
  const place = usePlace()
  const anew = useAnew()
  const make = useMutation({
    mutationFn: () => place.call('makeHandset', { body: { platform: platform.platform } }),
    onSuccess: anew,
  })
  const hasHandset = platform.steps.some(({ step, state }) => step === 'device' && state === 'rehearsed')
  return (
    <div className="mt-6 border-t border-line pt-3">
      <p className="text-sm text-soft">
        {hasHandset
          ? 'A virtual handset is here; it rings without any credential.'
          : 'Nothing at hand yet? A virtual handset rings without any credential.'}
      </p>
      {hasHandset ? (
        <Ring device={platform.device} look={`mt-2 ${actionLook('secondary')}`} text="Rehearse on it" />
      ) : (
        <Button className="mt-2" busy={make.isPending} onClick={() => make.mutate()}>
          Switch one on
        </Button>
      )}
      {make.error && <Failure error={make.error} />}
    </div>
  )
}
