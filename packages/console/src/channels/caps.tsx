import type { AppSettings } from '@zbell/contract'
import { capMaking } from '@zbell/contract/forms'
import { X } from 'lucide-react'
import { useIsOwner } from '../app/session.ts'
import { useSettings } from '../app/use-settings.ts'
import { IconButton } from '../parts/button.tsx'
import { ChoiceInput, Form, TextInput, useRequestForm } from '../parts/form.tsx'
import { Failure, Loaded } from '../parts/page.tsx'
import { forWhich, type UrgencyChoice, urgencyChoices, urgencyOf } from './coverage.ts'
import { usePolicy } from './use-policy.ts'

type Cap = AppSettings['caps'][number]

/** At most so many notifications in so many hours to one person. */
export function CapsSection() {
  const { data, error } = useSettings()
  return (
    <section aria-labelledby="caps">
      <h2 id="caps">Caps</h2>
      <p className="text-soft">At most so many in so many hours to one person, on all of their devices together.</p>
      <Loaded of={{ data, error }} lines={2}>
        {(data) => <All settings={data} />}
      </Loaded>
    </section>
  )
}

function All({ settings: { caps } }: { readonly settings: AppSettings }) {
  const isOwner = useIsOwner()
  const { mutate, mutateAsync, error } = usePolicy()
  return (
    <>
      {caps.length === 0 ? (
        <p className="mt-4">There are none.</p>
      ) : (
        <ul className="mt-4">
          {caps.map(({ name, most, hours, channels, belowUrgency }) => (
            <li key={name} className="flex items-baseline gap-3 border-t border-line py-2">
              <span className="min-w-0 flex-1">
                <span className="font-semibold">
                  {most} in {hours === 1 ? 'an hour' : `${hours} hours`}
                </span>{' '}
                <span className="font-mono text-sm">{name}</span>
                <span className="block text-sm text-soft">{forWhich(channels, belowUrgency)}</span>
              </span>
              {isOwner && (
                <IconButton
                  icon={X}
                  label={`Remove ${name}`}
                  onClick={() => mutate({ caps: caps.filter((one) => one.name !== name) })}
                />
              )}
            </li>
          ))}
        </ul>
      )}
      {error && <Failure error={error} />}
      {isOwner && (
        <Add onAdd={(cap) => mutateAsync({ caps: [...caps.filter(({ name }) => name !== cap.name), cap] })} />
      )}
    </>
  )
}

function Add({ onAdd }: { readonly onAdd: (cap: Cap) => Promise<unknown> }) {
  const filled = useRequestForm({
    schema: capMaking,
    first: { name: '', most: '2', hours: '24', channels: '', belowUrgency: 'any' as UrgencyChoice },
    requestOf: ({ name, most, hours, channels, belowUrgency }) => ({
      name: name.trim(),
      most: Number(most || Number.NaN),
      hours: Number(hours || Number.NaN),
      ...(channels.trim() === '' ? {} : { channels: channels.split(/[\s,]+/).filter(Boolean) }),
      belowUrgency: urgencyOf(belowUrgency),
    }),
  })
  return (
    <Form of={filled} submit="Set this cap" clears className="mt-6" onSubmit={(cap) => onAdd(cap as Cap)}>
      <div className="grid gap-4 sm:grid-cols-3">
        <TextInput of={filled} name="name" label="Name" hint="Name" code placeholder="offers-a-week" />
        <TextInput of={filled} name="most" label="At most" hint="To one person" numeric />
        <TextInput of={filled} name="hours" label="In so many hours" hint="744 at most" numeric />
        <TextInput of={filled} name="channels" label="For channels" hint="Empty: for all" code placeholder="offers" />
        <ChoiceInput of={filled} name="belowUrgency" label="For urgency" options={urgencyChoices} />
      </div>
    </Form>
  )
}
